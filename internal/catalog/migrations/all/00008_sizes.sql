-- +goose Up
-- What a version's artifacts take together, so that the largest are found without adding up all.
ALTER TABLE versions ADD COLUMN bytes BIGINT NOT NULL DEFAULT 0;
UPDATE versions SET bytes = (SELECT coalesce(sum(a.bytes), 0) FROM artifacts a WHERE a.image = versions.image AND a.version = versions.version);
CREATE INDEX versions_bytes ON versions (bytes DESC, image, major DESC, minor DESC, patch DESC);
