-- +goose Up
CREATE TABLE builds (
    id      TEXT PRIMARY KEY,
    image   TEXT NOT NULL,
    version TEXT NOT NULL,
    base    TEXT NOT NULL,
    state   TEXT NOT NULL CHECK (state IN ('running', 'registered', 'failed', 'interrupted')),
    who     TEXT NOT NULL,
    started TEXT NOT NULL,
    ended   TEXT NOT NULL DEFAULT '',
    error   TEXT NOT NULL DEFAULT ''
);
CREATE INDEX builds_image ON builds (image, started);

CREATE TABLE versions (
    image        TEXT NOT NULL,
    version      TEXT NOT NULL,
    major        INTEGER NOT NULL,
    minor        INTEGER NOT NULL,
    patch        INTEGER NOT NULL,
    build        TEXT NOT NULL REFERENCES builds (id),
    created      TEXT NOT NULL,
    base_name    TEXT NOT NULL,
    base_version TEXT NOT NULL,
    base_digest  TEXT NOT NULL,
    fingerprint  TEXT NOT NULL,
    epoch        INTEGER NOT NULL,
    layers       TEXT NOT NULL,
    labels       TEXT NOT NULL,
    PRIMARY KEY (image, version)
);
CREATE INDEX versions_order ON versions (image, major, minor, patch);
CREATE INDEX versions_base ON versions (base_name, base_version);

CREATE TABLE artifacts (
    image   TEXT NOT NULL,
    version TEXT NOT NULL,
    format  TEXT NOT NULL,
    digest  TEXT NOT NULL,
    bytes   INTEGER NOT NULL,
    PRIMARY KEY (image, version, format),
    FOREIGN KEY (image, version) REFERENCES versions (image, version)
);

CREATE TABLE tags (
    image   TEXT NOT NULL,
    tag     TEXT NOT NULL,
    version TEXT NOT NULL,
    PRIMARY KEY (image, tag),
    FOREIGN KEY (image, version) REFERENCES versions (image, version)
);

CREATE TABLE tag_moves (
    number   INTEGER PRIMARY KEY,
    image    TEXT NOT NULL,
    tag      TEXT NOT NULL,
    was      TEXT NOT NULL,
    version  TEXT NOT NULL,
    who      TEXT NOT NULL,
    at       TEXT NOT NULL
);
CREATE INDEX tag_moves_tag ON tag_moves (image, tag, number);

CREATE TABLE placements (
    id       TEXT PRIMARY KEY,
    image    TEXT NOT NULL,
    version  TEXT NOT NULL,
    region   TEXT NOT NULL,
    format   TEXT NOT NULL,
    artifact TEXT NOT NULL,
    location TEXT NOT NULL,
    verified TEXT NOT NULL,
    UNIQUE (image, version, region, format),
    FOREIGN KEY (image, version) REFERENCES versions (image, version)
);
CREATE INDEX placements_region ON placements (region, image, version);

PRAGMA user_version = 1;

-- +goose Down
DROP TABLE placements;
DROP TABLE tag_moves;
DROP TABLE tags;
DROP TABLE artifacts;
DROP TABLE versions;
DROP TABLE builds;
PRAGMA user_version = 0;
