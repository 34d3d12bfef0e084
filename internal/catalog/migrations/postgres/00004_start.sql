-- +goose Up
-- What the migrations of SQLite come to, up to this number. Names and times sort by their bytes.
CREATE TABLE builds (
    id      TEXT COLLATE "C" PRIMARY KEY,
    image   TEXT COLLATE "C" NOT NULL,
    version TEXT COLLATE "C" NOT NULL,
    base    TEXT NOT NULL,
    state   TEXT NOT NULL CHECK (state IN ('running', 'registered', 'failed', 'interrupted', 'cancelled')),
    who     TEXT NOT NULL,
    started TEXT COLLATE "C" NOT NULL,
    ended   TEXT NOT NULL DEFAULT '',
    error   TEXT NOT NULL DEFAULT '',
    why     TEXT NOT NULL DEFAULT ''
);
CREATE INDEX builds_image ON builds (image, started);

CREATE TABLE versions (
    image        TEXT COLLATE "C" NOT NULL,
    version      TEXT COLLATE "C" NOT NULL,
    major        BIGINT NOT NULL,
    minor        BIGINT NOT NULL,
    patch        BIGINT NOT NULL,
    build        TEXT COLLATE "C" NOT NULL REFERENCES builds (id),
    created      TEXT COLLATE "C" NOT NULL,
    base_name    TEXT COLLATE "C" NOT NULL,
    base_version TEXT COLLATE "C" NOT NULL,
    base_digest  TEXT NOT NULL,
    fingerprint  TEXT NOT NULL,
    epoch        BIGINT NOT NULL,
    trees        TEXT NOT NULL,
    labels       TEXT NOT NULL,
    PRIMARY KEY (image, version)
);
CREATE INDEX versions_order ON versions (image, major DESC, minor DESC, patch DESC);
CREATE INDEX versions_base ON versions (base_name, base_version);
CREATE INDEX versions_created ON versions (created);

CREATE TABLE artifacts (
    image   TEXT COLLATE "C" NOT NULL,
    version TEXT COLLATE "C" NOT NULL,
    variant TEXT COLLATE "C" NOT NULL,
    format  TEXT COLLATE "C" NOT NULL,
    digest  TEXT NOT NULL,
    bytes   BIGINT NOT NULL,
    PRIMARY KEY (image, version, variant, format),
    FOREIGN KEY (image, version) REFERENCES versions (image, version)
);

CREATE TABLE labels (
    image   TEXT COLLATE "C" NOT NULL,
    version TEXT COLLATE "C" NOT NULL,
    key     TEXT COLLATE "C" NOT NULL,
    value   TEXT COLLATE "C" NOT NULL,
    PRIMARY KEY (image, version, key),
    FOREIGN KEY (image, version) REFERENCES versions (image, version)
);
CREATE INDEX labels_value ON labels (key, value, image, version);

CREATE TABLE tags (
    image   TEXT COLLATE "C" NOT NULL,
    tag     TEXT COLLATE "C" NOT NULL,
    version TEXT COLLATE "C" NOT NULL,
    PRIMARY KEY (image, tag),
    FOREIGN KEY (image, version) REFERENCES versions (image, version)
);
CREATE INDEX tags_tag ON tags (tag, image, version);

CREATE TABLE tag_moves (
    number  BIGINT PRIMARY KEY,
    image   TEXT COLLATE "C" NOT NULL,
    tag     TEXT COLLATE "C" NOT NULL,
    was     TEXT NOT NULL,
    version TEXT COLLATE "C" NOT NULL,
    who     TEXT NOT NULL,
    at      TEXT COLLATE "C" NOT NULL,
    why     TEXT NOT NULL DEFAULT ''
);
CREATE INDEX tag_moves_tag ON tag_moves (image, tag, number);

CREATE TABLE placements (
    id       TEXT COLLATE "C" PRIMARY KEY,
    image    TEXT COLLATE "C" NOT NULL,
    version  TEXT COLLATE "C" NOT NULL,
    region   TEXT COLLATE "C" NOT NULL,
    variant  TEXT COLLATE "C" NOT NULL,
    format   TEXT COLLATE "C" NOT NULL,
    artifact TEXT NOT NULL,
    location TEXT NOT NULL,
    verified TEXT COLLATE "C" NOT NULL,
    UNIQUE (image, version, region, variant, format),
    FOREIGN KEY (image, version) REFERENCES versions (image, version)
);
CREATE INDEX placements_region ON placements (region, image, version);

CREATE TABLE recalls (
    number      BIGINT PRIMARY KEY,
    image       TEXT COLLATE "C" NOT NULL,
    version     TEXT COLLATE "C" NOT NULL,
    why         TEXT NOT NULL,
    who         TEXT NOT NULL,
    at          TEXT COLLATE "C" NOT NULL,
    since       TEXT COLLATE "C" NOT NULL,
    descendants BIGINT NOT NULL,
    ended       TEXT COLLATE "C" NOT NULL DEFAULT '',
    ended_by    TEXT NOT NULL DEFAULT '',
    FOREIGN KEY (image, version) REFERENCES versions (image, version)
);
CREATE INDEX recalls_version ON recalls (image, version);
