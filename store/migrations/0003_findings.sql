-- +goose Up
-- mark is a keyed digest of a secret: equal for equal secrets, and nobody without the
-- master key can try guesses against it.
ALTER TABLE secrets ADD COLUMN mark BLOB;
CREATE INDEX secrets_mark ON secrets (mark) WHERE mark IS NOT NULL;
CREATE INDEX accounts_alike ON accounts (lower(login));

DROP TABLE findings;
CREATE TABLE findings (
    profile_id TEXT NOT NULL REFERENCES profiles ON DELETE CASCADE,
    rule       TEXT NOT NULL,
    severity   TEXT NOT NULL,
    field      TEXT NOT NULL,
    found      TEXT NOT NULL,
    mend       TEXT NOT NULL,
    noun       TEXT NOT NULL,
    object     TEXT NOT NULL,
    pointer    TEXT NOT NULL,
    mendable   INTEGER NOT NULL,
    passed     INTEGER NOT NULL, -- an overridden blocker
    since      INTEGER NOT NULL  -- when it was found first
);
CREATE INDEX findings_profile ON findings (profile_id);
CREATE INDEX findings_rule ON findings (severity, rule);
CREATE INDEX findings_since ON findings (since);

-- Findings that are no longer there.
CREATE TABLE past_findings (
    profile_id TEXT NOT NULL REFERENCES profiles ON DELETE CASCADE,
    rule       TEXT NOT NULL,
    severity   TEXT NOT NULL,
    field      TEXT NOT NULL,
    since      INTEGER NOT NULL,
    ended      INTEGER NOT NULL
);
CREATE INDEX past_findings_ended ON past_findings (ended);
CREATE INDEX past_findings_profile ON past_findings (profile_id);
UPDATE profiles SET touched = touched + 1;

-- How the owner wants rules to be taken.
CREATE TABLE severities (
    rule     TEXT PRIMARY KEY,
    severity TEXT NOT NULL CHECK (severity IN ('blocker', 'warning', 'advice', 'off')),
    operator TEXT NOT NULL,
    changed  INTEGER NOT NULL
) WITHOUT ROWID;

-- Blockers that may pass on one profile, for a reason and a time.
CREATE TABLE overrides (
    profile_id TEXT NOT NULL REFERENCES profiles ON DELETE CASCADE,
    rule       TEXT NOT NULL,
    reason     TEXT NOT NULL,
    until      INTEGER NOT NULL,
    operator   TEXT NOT NULL,
    created    INTEGER NOT NULL,
    ended      INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (profile_id, rule)
) WITHOUT ROWID;

CREATE TABLE remembered (
    name  TEXT PRIMARY KEY,
    value TEXT NOT NULL
) WITHOUT ROWID;

-- +goose Down
DROP TABLE remembered;
DROP TABLE overrides;
DROP TABLE severities;
DROP TABLE past_findings;
DROP INDEX accounts_alike;
DROP INDEX secrets_mark;
ALTER TABLE secrets DROP COLUMN mark;
DROP TABLE findings;
CREATE TABLE findings (
    profile_id TEXT NOT NULL REFERENCES profiles ON DELETE CASCADE,
    rule       TEXT NOT NULL,
    severity   TEXT NOT NULL,
    field      TEXT NOT NULL
);
CREATE INDEX findings_profile ON findings (profile_id);
CREATE INDEX findings_rule ON findings (severity, rule);
