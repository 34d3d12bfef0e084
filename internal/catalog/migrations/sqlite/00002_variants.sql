-- +goose Up
-- An image may have several variants: each has a tree, artifacts and placements of its own.
CREATE TABLE artifacts_new (
    image   TEXT NOT NULL,
    version TEXT NOT NULL,
    variant TEXT NOT NULL,
    format  TEXT NOT NULL,
    digest  TEXT NOT NULL,
    bytes   INTEGER NOT NULL,
    PRIMARY KEY (image, version, variant, format),
    FOREIGN KEY (image, version) REFERENCES versions (image, version)
);
INSERT INTO artifacts_new SELECT image, version, '', format, digest, bytes FROM artifacts;
DROP TABLE artifacts;
ALTER TABLE artifacts_new RENAME TO artifacts;

CREATE TABLE placements_new (
    id       TEXT PRIMARY KEY,
    image    TEXT NOT NULL,
    version  TEXT NOT NULL,
    region   TEXT NOT NULL,
    variant  TEXT NOT NULL,
    format   TEXT NOT NULL,
    artifact TEXT NOT NULL,
    location TEXT NOT NULL,
    verified TEXT NOT NULL,
    UNIQUE (image, version, region, variant, format),
    FOREIGN KEY (image, version) REFERENCES versions (image, version)
);
INSERT INTO placements_new SELECT id, image, version, region, '', format, artifact, location, verified FROM placements;
DROP TABLE placements;
ALTER TABLE placements_new RENAME TO placements;
CREATE INDEX placements_region ON placements (region, image, version);

ALTER TABLE versions RENAME COLUMN layers TO trees;
UPDATE versions SET trees = json_array(json_object('variant', '', 'layers', json(trees)));

ALTER TABLE builds ADD COLUMN why TEXT NOT NULL DEFAULT '';
-- SQLite, "Making Other Kinds Of Table Schema Changes": a check is changed in the schema's text.
PRAGMA writable_schema = ON;
UPDATE sqlite_schema SET sql = replace(sql, '''interrupted''', '''interrupted'', ''cancelled''') WHERE type = 'table' AND name = 'builds';
PRAGMA writable_schema = RESET;

PRAGMA user_version = 2;

-- +goose Down
SELECT 1 / 0; -- the variants would be lost
