-- +goose Up
-- A version may have several artifacts of one format, told apart by their names.
ALTER TABLE artifacts RENAME COLUMN format TO name;
ALTER TABLE artifacts ADD COLUMN format TEXT NOT NULL DEFAULT '';
UPDATE artifacts SET format = name;
ALTER TABLE placements RENAME COLUMN format TO name;
ALTER TABLE placements ADD COLUMN format TEXT NOT NULL DEFAULT '';
UPDATE placements SET format = name;
