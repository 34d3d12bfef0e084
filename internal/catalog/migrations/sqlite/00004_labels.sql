-- +goose Up
-- Labels by key and value, so that versions are found by them.
CREATE TABLE labels (
    image   TEXT NOT NULL,
    version TEXT NOT NULL,
    key     TEXT NOT NULL,
    value   TEXT NOT NULL,
    PRIMARY KEY (image, version, key),
    FOREIGN KEY (image, version) REFERENCES versions (image, version)
);
CREATE INDEX labels_value ON labels (key, value, image, version);
INSERT INTO labels SELECT v.image, v.version, l.key, l.value FROM versions v, json_each(v.labels) l;
CREATE INDEX tags_tag ON tags (tag, image, version);
DROP INDEX versions_order;
CREATE INDEX versions_order ON versions (image, major DESC, minor DESC, patch DESC);
CREATE INDEX versions_created ON versions (created);

PRAGMA user_version = 4;

-- +goose Down
DROP INDEX versions_created;
DROP INDEX tags_tag;
DROP TABLE labels;
PRAGMA user_version = 3;
