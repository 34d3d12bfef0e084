-- +goose Up
-- Who is changing what right now: a lease is held by one process of all that share the catalog, which lets hear of itself.
CREATE TABLE leases (
    name   TEXT PRIMARY KEY,
    holder TEXT NOT NULL,
    place  TEXT NOT NULL,
    who    TEXT NOT NULL,
    host   TEXT NOT NULL,
    doing  TEXT NOT NULL,
    beat   TEXT NOT NULL
);
