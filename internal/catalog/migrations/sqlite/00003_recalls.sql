-- +goose Up
CREATE TABLE recalls (
    number      INTEGER PRIMARY KEY,
    image       TEXT NOT NULL,
    version     TEXT NOT NULL,
    why         TEXT NOT NULL,
    who         TEXT NOT NULL,
    at          TEXT NOT NULL,
    since       TEXT NOT NULL,
    descendants INTEGER NOT NULL,
    ended       TEXT NOT NULL DEFAULT '',
    ended_by    TEXT NOT NULL DEFAULT '',
    FOREIGN KEY (image, version) REFERENCES versions (image, version)
);
CREATE INDEX recalls_version ON recalls (image, version);

ALTER TABLE tag_moves ADD COLUMN why TEXT NOT NULL DEFAULT '';

PRAGMA user_version = 3;

-- +goose Down
DROP TABLE recalls;
ALTER TABLE tag_moves DROP COLUMN why;
PRAGMA user_version = 2;
