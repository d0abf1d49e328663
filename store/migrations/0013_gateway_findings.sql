-- +goose Up
-- What is wrong with a gateway's record alone is found once, at the gateway.
ALTER TABLE gateways ADD COLUMN touched INTEGER NOT NULL DEFAULT 1;
ALTER TABLE gateways ADD COLUMN seen INTEGER NOT NULL DEFAULT 0;
ALTER TABLE gateways ADD COLUMN blockers INTEGER NOT NULL DEFAULT 0;
ALTER TABLE gateways ADD COLUMN warnings INTEGER NOT NULL DEFAULT 0;
ALTER TABLE gateways ADD COLUMN advice INTEGER NOT NULL DEFAULT 0;
CREATE INDEX gateways_due ON gateways (id) WHERE touched <> seen;

CREATE TABLE findings_ (
    profile_id TEXT REFERENCES profiles ON DELETE CASCADE,
    gateway_id TEXT REFERENCES gateways ON DELETE CASCADE, -- of the record alone
    rule       TEXT NOT NULL,
    severity   TEXT NOT NULL,
    field      TEXT NOT NULL,
    found      TEXT NOT NULL,
    mend       TEXT NOT NULL,
    noun       TEXT NOT NULL,
    object     TEXT NOT NULL,
    pointer    TEXT NOT NULL,
    mendable   INTEGER NOT NULL,
    passed     INTEGER NOT NULL,
    since      INTEGER NOT NULL,
    CHECK ((profile_id IS NULL) <> (gateway_id IS NULL))
);
INSERT INTO findings_ SELECT profile_id, NULL, rule, severity, field, found, mend, noun, object, pointer, mendable, passed, since FROM findings;
DROP TABLE findings;
ALTER TABLE findings_ RENAME TO findings;
CREATE INDEX findings_profile ON findings (profile_id);
CREATE INDEX findings_gateway ON findings (gateway_id) WHERE gateway_id IS NOT NULL;
CREATE INDEX findings_rule ON findings (severity, rule);
CREATE INDEX findings_since ON findings (since);

CREATE TABLE past_findings_ (
    profile_id TEXT REFERENCES profiles ON DELETE CASCADE,
    gateway_id TEXT REFERENCES gateways ON DELETE CASCADE,
    rule       TEXT NOT NULL,
    severity   TEXT NOT NULL,
    field      TEXT NOT NULL,
    since      INTEGER NOT NULL,
    ended      INTEGER NOT NULL
);
INSERT INTO past_findings_ SELECT profile_id, NULL, rule, severity, field, since, ended FROM past_findings;
DROP TABLE past_findings;
ALTER TABLE past_findings_ RENAME TO past_findings;
CREATE INDEX past_findings_ended ON past_findings (ended);
CREATE INDEX past_findings_profile ON past_findings (profile_id);
UPDATE profiles SET touched = touched + 1;

-- +goose Down
CREATE TABLE findings_ (
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
    passed     INTEGER NOT NULL,
    since      INTEGER NOT NULL
);
INSERT INTO findings_ SELECT profile_id, rule, severity, field, found, mend, noun, object, pointer, mendable, passed, since FROM findings WHERE profile_id IS NOT NULL;
DROP TABLE findings;
ALTER TABLE findings_ RENAME TO findings;
CREATE INDEX findings_profile ON findings (profile_id);
CREATE INDEX findings_rule ON findings (severity, rule);
CREATE INDEX findings_since ON findings (since);

CREATE TABLE past_findings_ (
    profile_id TEXT NOT NULL REFERENCES profiles ON DELETE CASCADE,
    rule       TEXT NOT NULL,
    severity   TEXT NOT NULL,
    field      TEXT NOT NULL,
    since      INTEGER NOT NULL,
    ended      INTEGER NOT NULL
);
INSERT INTO past_findings_ SELECT profile_id, rule, severity, field, since, ended FROM past_findings WHERE profile_id IS NOT NULL;
DROP TABLE past_findings;
ALTER TABLE past_findings_ RENAME TO past_findings;
CREATE INDEX past_findings_ended ON past_findings (ended);
CREATE INDEX past_findings_profile ON past_findings (profile_id);

DROP INDEX gateways_due;
ALTER TABLE gateways DROP COLUMN advice;
ALTER TABLE gateways DROP COLUMN warnings;
ALTER TABLE gateways DROP COLUMN blockers;
ALTER TABLE gateways DROP COLUMN seen;
ALTER TABLE gateways DROP COLUMN touched;
