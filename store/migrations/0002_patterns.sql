-- +goose Up
CREATE TABLE patterns (
    id      TEXT PRIMARY KEY,
    version INTEGER NOT NULL,
    name    TEXT NOT NULL COLLATE NOCASE UNIQUE,
    body    TEXT NOT NULL,
    created INTEGER NOT NULL,
    changed INTEGER NOT NULL
);

ALTER TABLE profiles ADD COLUMN pattern_id TEXT REFERENCES patterns;
CREATE INDEX profiles_pattern ON profiles (pattern_id) WHERE pattern_id IS NOT NULL;

-- Long work: what it is, how far it has come, and where it goes on after a restart.
CREATE TABLE jobs (
    id       TEXT PRIMARY KEY,
    kind     TEXT NOT NULL,
    subject  TEXT NOT NULL,
    title    TEXT NOT NULL,
    operator TEXT NOT NULL,
    state    TEXT NOT NULL CHECK (state IN ('running', 'done', 'cancelled', 'failed')),
    total    INTEGER NOT NULL,
    done     INTEGER NOT NULL,
    cursor   TEXT NOT NULL,
    result   TEXT NOT NULL,
    problem  TEXT NOT NULL,
    created  INTEGER NOT NULL,
    changed  INTEGER NOT NULL
);
CREATE INDEX jobs_running ON jobs (created) WHERE state = 'running';
CREATE INDEX jobs_created ON jobs (created DESC, id);

-- +goose Down
DROP TABLE jobs;
DROP INDEX profiles_pattern;
ALTER TABLE profiles DROP COLUMN pattern_id;
DROP TABLE patterns;
