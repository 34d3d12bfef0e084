-- +goose Up
-- Placements that are on their way: asked for and not there yet, or failed. What is placed has a row in placements instead.
CREATE TABLE underway (
    image   TEXT NOT NULL,
    version TEXT NOT NULL,
    region  TEXT NOT NULL,
    variant TEXT NOT NULL,
    name    TEXT NOT NULL,
    format  TEXT NOT NULL,
    state   TEXT NOT NULL,
    done    BIGINT NOT NULL,
    bytes   BIGINT NOT NULL,
    why     TEXT NOT NULL,
    host    TEXT NOT NULL,
    changed TEXT NOT NULL,
    PRIMARY KEY (image, version, region, variant, name)
);
