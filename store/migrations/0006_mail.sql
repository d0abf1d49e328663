-- +goose Up
CREATE TABLE mail (
    only    INTEGER PRIMARY KEY CHECK (only = 1),
    version INTEGER NOT NULL,
    body    TEXT NOT NULL
);
INSERT INTO mail VALUES (1, 1, '{}');

-- Letters to be sent. What they say is among the sealed secrets until they are sent.
CREATE TABLE letters (
    id      TEXT PRIMARY KEY,
    kind    TEXT NOT NULL,
    to_     TEXT NOT NULL,
    subject TEXT NOT NULL,
    state   TEXT NOT NULL CHECK (state IN ('waiting', 'sent', 'failed')),
    tries   INTEGER NOT NULL DEFAULT 0,
    due     INTEGER NOT NULL,
    problem TEXT NOT NULL DEFAULT '',
    created INTEGER NOT NULL,
    sent    INTEGER
);
CREATE INDEX letters_due ON letters (due) WHERE state = 'waiting';
CREATE INDEX letters_created ON letters (created);

-- When the certificate that a device proves itself with ends.
ALTER TABLE devices ADD COLUMN identity_ends INTEGER;
CREATE INDEX devices_identity_ends ON devices (identity_ends) WHERE identity_ends IS NOT NULL;

-- +goose Down
DROP INDEX devices_identity_ends;
ALTER TABLE devices DROP COLUMN identity_ends;
DROP TABLE letters;
DROP TABLE mail;
