-- +goose Up
-- What checks said of versions, each time that one was judged.
CREATE TABLE judgements (
    image    TEXT NOT NULL,
    version  TEXT NOT NULL,
    at       TEXT NOT NULL,
    who      TEXT NOT NULL,
    host     TEXT NOT NULL,
    how      TEXT NOT NULL,
    passed   BIGINT NOT NULL,
    failed   BIGINT NOT NULL,
    warned   BIGINT NOT NULL,
    skipped  BIGINT NOT NULL,
    digest   TEXT NOT NULL,
    document TEXT NOT NULL,
    PRIMARY KEY (image, version, at)
);
