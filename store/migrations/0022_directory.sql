-- +goose Up
-- How people are read from a directory, and what came of the last time.
CREATE TABLE directory (
    only    INTEGER PRIMARY KEY CHECK (only = 1),
    version INTEGER NOT NULL,
    body    TEXT NOT NULL,
    state   TEXT NOT NULL DEFAULT '{}'
);
INSERT INTO directory (only, version, body) VALUES (1, 1, '{"stop_over":10}');

-- Where people come from: an entry of the directory, or a client of SCIM.
CREATE TABLE sources (
    person_id TEXT PRIMARY KEY REFERENCES people ON DELETE CASCADE,
    kind      TEXT NOT NULL CHECK (kind IN ('directory', 'scim')),
    entry     TEXT NOT NULL, -- entryUUID, or userName
    external  TEXT NOT NULL DEFAULT '',
    body      TEXT NOT NULL DEFAULT '', -- attributes as SCIM's client sent them, as JSON
    missing   INTEGER -- since when it has not been there, or not been active
) WITHOUT ROWID;
CREATE UNIQUE INDEX sources_entry ON sources (kind, lower(entry));
CREATE INDEX sources_missing ON sources (missing) WHERE missing IS NOT NULL;

-- Groups of SCIM; who is in one stands with the people.
CREATE TABLE scim_groups (
    id       TEXT PRIMARY KEY,
    name     TEXT NOT NULL COLLATE NOCASE UNIQUE,
    external TEXT NOT NULL DEFAULT '',
    created  INTEGER NOT NULL,
    changed  INTEGER NOT NULL
) WITHOUT ROWID;

-- +goose Down
DROP TABLE scim_groups;
DROP TABLE sources;
DROP TABLE directory;
