-- +goose Up
CREATE TABLE seal (
    only    INTEGER PRIMARY KEY CHECK (only = 1),
    kind    TEXT NOT NULL CHECK (kind IN ('file', 'passphrase')),
    salt    BLOB NOT NULL,
    proof   BLOB NOT NULL
);

-- Secrets of records, each sealed with the record's identity bound in.
CREATE TABLE secrets (
    owner   TEXT NOT NULL,
    field   TEXT NOT NULL,
    sealed  BLOB NOT NULL,
    PRIMARY KEY (owner, field)
) WITHOUT ROWID;

CREATE TABLE organisation (
    only    INTEGER PRIMARY KEY CHECK (only = 1),
    version INTEGER NOT NULL,
    name    TEXT NOT NULL,
    domain  TEXT NOT NULL
);
INSERT INTO organisation VALUES (1, 1, 'Our organisation', 'organisation.example');

CREATE TABLE gateways (
    id      TEXT PRIMARY KEY,
    version INTEGER NOT NULL,
    name    TEXT NOT NULL COLLATE NOCASE UNIQUE,
    address TEXT NOT NULL,
    city    TEXT NOT NULL,
    body    TEXT NOT NULL,
    created INTEGER NOT NULL,
    changed INTEGER NOT NULL
);

CREATE TABLE people (
    id      TEXT PRIMARY KEY,
    version INTEGER NOT NULL,
    name    TEXT NOT NULL COLLATE NOCASE,
    mail    TEXT NOT NULL,
    body    TEXT NOT NULL,
    created INTEGER NOT NULL,
    changed INTEGER NOT NULL
);
CREATE INDEX people_name ON people (name, id);

CREATE TABLE accounts (
    id        TEXT PRIMARY KEY,
    version   INTEGER NOT NULL,
    person_id TEXT NOT NULL REFERENCES people,
    login     TEXT NOT NULL,
    realm     TEXT NOT NULL,
    body      TEXT NOT NULL,
    created   INTEGER NOT NULL,
    changed   INTEGER NOT NULL,
    UNIQUE (person_id, login, realm)
);
CREATE INDEX accounts_login ON accounts (login, id);

CREATE TABLE account_gateways (
    account_id TEXT NOT NULL REFERENCES accounts ON DELETE CASCADE,
    gateway_id TEXT NOT NULL REFERENCES gateways,
    PRIMARY KEY (account_id, gateway_id)
) WITHOUT ROWID;
CREATE INDEX account_gateways_gateway ON account_gateways (gateway_id);

CREATE TABLE devices (
    id        TEXT PRIMARY KEY,
    version   INTEGER NOT NULL,
    name      TEXT NOT NULL COLLATE NOCASE UNIQUE,
    person_id TEXT NOT NULL REFERENCES people,
    platform  TEXT NOT NULL,
    release   TEXT NOT NULL,
    body      TEXT NOT NULL,
    created   INTEGER NOT NULL,
    changed   INTEGER NOT NULL
);
CREATE INDEX devices_person ON devices (person_id);
CREATE INDEX devices_platform ON devices (platform, name);

-- touched counts the changes of anything that the profile depends on; seen is its
-- value when the profile was last checked.
CREATE TABLE profiles (
    id         TEXT PRIMARY KEY,
    version    INTEGER NOT NULL,
    device_id  TEXT NOT NULL REFERENCES devices,
    gateway_id TEXT NOT NULL REFERENCES gateways,
    body       TEXT NOT NULL,
    created    INTEGER NOT NULL,
    changed    INTEGER NOT NULL,
    touched    INTEGER NOT NULL DEFAULT 1,
    seen       INTEGER NOT NULL DEFAULT 0,
    blockers   INTEGER NOT NULL DEFAULT 0,
    warnings   INTEGER NOT NULL DEFAULT 0,
    advice     INTEGER NOT NULL DEFAULT 0,
    UNIQUE (device_id, gateway_id)
);
CREATE INDEX profiles_gateway ON profiles (gateway_id);
CREATE INDEX profiles_due ON profiles (id) WHERE touched <> seen;
CREATE INDEX profiles_worst ON profiles (blockers DESC, warnings DESC, id);

CREATE TABLE findings (
    profile_id TEXT NOT NULL REFERENCES profiles ON DELETE CASCADE,
    rule       TEXT NOT NULL,
    severity   TEXT NOT NULL,
    field      TEXT NOT NULL
);
CREATE INDEX findings_profile ON findings (profile_id);
CREATE INDEX findings_rule ON findings (severity, rule);

-- A parcel never changes. Its content is sealed; its digest is keyed, because a plain
-- one would let a weak password in it be guessed.
CREATE TABLE parcels (
    id         TEXT PRIMARY KEY,
    profile_id TEXT NOT NULL REFERENCES profiles ON DELETE CASCADE,
    by_hand    INTEGER NOT NULL,
    digest     TEXT NOT NULL,
    built      INTEGER NOT NULL,
    files      TEXT NOT NULL
);
CREATE INDEX parcels_profile ON parcels (profile_id, built DESC);

CREATE TABLE operators (
    id       TEXT PRIMARY KEY,
    name     TEXT NOT NULL COLLATE NOCASE UNIQUE,
    role     TEXT NOT NULL,
    password TEXT NOT NULL,
    created  INTEGER NOT NULL
);

-- Sessions of the console and tokens of the command line, by the hash of their bearer.
CREATE TABLE sessions (
    hash        BLOB PRIMARY KEY,
    operator_id TEXT NOT NULL REFERENCES operators ON DELETE CASCADE,
    kind        TEXT NOT NULL CHECK (kind IN ('cookie', 'token')),
    created     INTEGER NOT NULL,
    expires     INTEGER NOT NULL
) WITHOUT ROWID;

CREATE TABLE audit (
    seq      INTEGER PRIMARY KEY AUTOINCREMENT,
    at       INTEGER NOT NULL,
    operator TEXT NOT NULL,
    action   TEXT NOT NULL,
    noun     TEXT NOT NULL,
    object   TEXT NOT NULL,
    detail   TEXT NOT NULL
);
-- +goose StatementBegin
CREATE TRIGGER audit_keeps_rows BEFORE DELETE ON audit BEGIN
    SELECT RAISE(ABORT, 'the audit log only grows');
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER audit_keeps_words BEFORE UPDATE ON audit BEGIN
    SELECT RAISE(ABORT, 'the audit log only grows');
END;
-- +goose StatementEnd

-- +goose Down
DROP TABLE audit;
DROP TABLE sessions;
DROP TABLE operators;
DROP TABLE parcels;
DROP TABLE findings;
DROP TABLE profiles;
DROP TABLE devices;
DROP TABLE account_gateways;
DROP TABLE accounts;
DROP TABLE people;
DROP TABLE gateways;
DROP TABLE organisation;
DROP TABLE secrets;
DROP TABLE seal;
