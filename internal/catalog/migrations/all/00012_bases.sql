-- +goose Up
-- How a placement was verified: 'content', 'digest', or 'size'; '' before that was recorded.
ALTER TABLE placements ADD COLUMN verified_by TEXT NOT NULL DEFAULT '';
-- Whether the base of a version is a version of this catalog, and not a base from outside that happens to have its name.
ALTER TABLE versions ADD COLUMN base_image INTEGER NOT NULL DEFAULT 0;
UPDATE versions SET base_image = 1 WHERE EXISTS (SELECT 1 FROM versions p
    WHERE p.image = versions.base_name AND p.version = versions.base_version AND p.created <= versions.created);
