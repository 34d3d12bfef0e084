-- +goose Up
-- From here on, the same for every database. Several machines may share a catalog: a build says
-- which state runs it, and when that was last heard of; a catalog has an identity.
ALTER TABLE builds ADD COLUMN host TEXT NOT NULL DEFAULT '';
ALTER TABLE builds ADD COLUMN place TEXT NOT NULL DEFAULT '';
ALTER TABLE builds ADD COLUMN seen TEXT NOT NULL DEFAULT '';
ALTER TABLE builds ADD COLUMN revision TEXT NOT NULL DEFAULT '';
CREATE INDEX builds_state ON builds (state, started);
CREATE INDEX builds_started ON builds (started, id);

CREATE TABLE about (
    name  TEXT NOT NULL PRIMARY KEY,
    value TEXT NOT NULL
);
