-- +goose Up
-- A version that prune has begun to remove: nothing may come to need it from then on.
ALTER TABLE versions ADD COLUMN leaving INTEGER NOT NULL DEFAULT 0;
