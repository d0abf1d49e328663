-- Made from the migrations by go test ./store -run TestSchema -update; not by hand.
CREATE TABLE goose_db_version (
		id INTEGER PRIMARY KEY AUTOINCREMENT,
		version_id INTEGER NOT NULL,
		is_applied INTEGER NOT NULL,
		tstamp TIMESTAMP DEFAULT (datetime('now'))
	);
CREATE TABLE secrets (
    owner   TEXT NOT NULL,
    field   TEXT NOT NULL,
    sealed  BLOB NOT NULL, mark BLOB, changed INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (owner, field)
) WITHOUT ROWID;
CREATE TABLE organisation (
    only    INTEGER PRIMARY KEY CHECK (only = 1),
    version INTEGER NOT NULL,
    name    TEXT NOT NULL,
    domain  TEXT NOT NULL
, links TEXT NOT NULL DEFAULT '', links_v4 TEXT NOT NULL DEFAULT '', links_v6 TEXT NOT NULL DEFAULT '', factors INTEGER NOT NULL DEFAULT 0, probe_every INTEGER NOT NULL DEFAULT 0, keep_parcels INTEGER NOT NULL DEFAULT 90, enrol TEXT NOT NULL DEFAULT '', four_eyes INTEGER NOT NULL DEFAULT 0);
CREATE TABLE gateways (
    id      TEXT PRIMARY KEY,
    version INTEGER NOT NULL,
    name    TEXT NOT NULL COLLATE NOCASE UNIQUE,
    address TEXT NOT NULL,
    city    TEXT NOT NULL,
    body    TEXT NOT NULL,
    created INTEGER NOT NULL,
    changed INTEGER NOT NULL
, touched INTEGER NOT NULL DEFAULT 1, seen INTEGER NOT NULL DEFAULT 0, errors INTEGER NOT NULL DEFAULT 0, warnings INTEGER NOT NULL DEFAULT 0, notes INTEGER NOT NULL DEFAULT 0, profiles INTEGER NOT NULL DEFAULT 0);
CREATE TABLE people (
    id      TEXT PRIMARY KEY,
    version INTEGER NOT NULL,
    name    TEXT NOT NULL COLLATE NOCASE,
    mail    TEXT NOT NULL,
    body    TEXT NOT NULL,
    created INTEGER NOT NULL,
    changed INTEGER NOT NULL
);
CREATE TABLE accounts (
    id        TEXT PRIMARY KEY,
    version   INTEGER NOT NULL,
    person_id TEXT NOT NULL REFERENCES people,
    login     TEXT NOT NULL,
    realm     TEXT NOT NULL,
    body      TEXT NOT NULL,
    created   INTEGER NOT NULL,
    changed   INTEGER NOT NULL, person_name TEXT NOT NULL DEFAULT '' COLLATE NOCASE,
    UNIQUE (person_id, login, realm)
);
CREATE TABLE account_gateways (
    account_id TEXT NOT NULL REFERENCES accounts ON DELETE CASCADE,
    gateway_id TEXT NOT NULL REFERENCES gateways,
    PRIMARY KEY (account_id, gateway_id)
) WITHOUT ROWID;
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
, identity_expires INTEGER, person_name TEXT NOT NULL DEFAULT '' COLLATE NOCASE);
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
    errors   INTEGER NOT NULL DEFAULT 0,
    warnings   INTEGER NOT NULL DEFAULT 0,
    notes     INTEGER NOT NULL DEFAULT 0, pattern_id TEXT REFERENCES patterns, device_name TEXT NOT NULL DEFAULT '' COLLATE NOCASE, gateway_name TEXT NOT NULL DEFAULT '' COLLATE NOCASE, person_id TEXT NOT NULL DEFAULT '', person_name TEXT NOT NULL DEFAULT '' COLLATE NOCASE, platform TEXT NOT NULL DEFAULT '',
    UNIQUE (device_id, gateway_id)
);
CREATE TABLE parcels (
    id         TEXT PRIMARY KEY,
    profile_id TEXT NOT NULL REFERENCES profiles ON DELETE CASCADE,
    by_hand    INTEGER NOT NULL,
    digest     TEXT NOT NULL,
    built      INTEGER NOT NULL,
    files      TEXT NOT NULL
, removed INTEGER, later TEXT NOT NULL DEFAULT '');
CREATE TABLE operators (
    id       TEXT PRIMARY KEY,
    name     TEXT NOT NULL COLLATE NOCASE UNIQUE,
    role     TEXT NOT NULL,
    password TEXT NOT NULL,
    created  INTEGER NOT NULL
, disabled INTEGER NOT NULL DEFAULT 0, must_change INTEGER NOT NULL DEFAULT 0, factor INTEGER NOT NULL DEFAULT 0, factor_step INTEGER NOT NULL DEFAULT 0, signed_in INTEGER, proof BLOB);
CREATE TABLE sessions (
    hash        BLOB PRIMARY KEY,
    operator_id TEXT NOT NULL REFERENCES operators ON DELETE CASCADE,
    kind        TEXT NOT NULL CHECK (kind IN ('cookie', 'token')),
    created     INTEGER NOT NULL,
    expires     INTEGER NOT NULL
, id TEXT NOT NULL DEFAULT '', name TEXT NOT NULL DEFAULT '', role TEXT NOT NULL DEFAULT '', origin TEXT NOT NULL DEFAULT '', used INTEGER, proof BLOB, client TEXT NOT NULL DEFAULT '', addresses TEXT NOT NULL DEFAULT '', confirmed INTEGER NOT NULL DEFAULT 0) WITHOUT ROWID;
CREATE TABLE audit (
    seq      INTEGER PRIMARY KEY AUTOINCREMENT,
    at       INTEGER NOT NULL,
    operator TEXT NOT NULL,
    action   TEXT NOT NULL,
    noun     TEXT NOT NULL,
    object   TEXT NOT NULL,
    detail   TEXT NOT NULL
, chain BLOB);
CREATE TABLE patterns (
    id      TEXT PRIMARY KEY,
    version INTEGER NOT NULL,
    name    TEXT NOT NULL COLLATE NOCASE UNIQUE,
    body    TEXT NOT NULL,
    created INTEGER NOT NULL,
    changed INTEGER NOT NULL
);
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
CREATE TABLE authorities (
    id      TEXT PRIMARY KEY,
    version INTEGER NOT NULL,
    name    TEXT NOT NULL COLLATE NOCASE UNIQUE,
    expires    INTEGER NOT NULL,
    body    TEXT NOT NULL,
    created INTEGER NOT NULL,
    changed INTEGER NOT NULL
, successor_id TEXT REFERENCES authorities, rolled_over INTEGER);
CREATE TABLE certificates (
    id           TEXT PRIMARY KEY,
    authority_id TEXT NOT NULL REFERENCES authorities,
    serial       TEXT NOT NULL,
    subject      TEXT NOT NULL,
    names        TEXT NOT NULL, -- a JSON list
    usage        TEXT NOT NULL,
    device_id    TEXT REFERENCES devices ON DELETE SET NULL,
    gateway_id   TEXT REFERENCES gateways ON DELETE SET NULL,
    starts       INTEGER NOT NULL,
    expires         INTEGER NOT NULL,
    revoked      INTEGER,
    reason       TEXT NOT NULL DEFAULT '',
    pem          TEXT NOT NULL,
    operator     TEXT NOT NULL,
    created      INTEGER NOT NULL,
    UNIQUE (authority_id, serial)
);
CREATE TABLE requests (
    id           TEXT PRIMARY KEY,
    authority_id TEXT REFERENCES authorities,
    usage        TEXT NOT NULL,
    device_id    TEXT REFERENCES devices ON DELETE CASCADE,
    subject      TEXT NOT NULL,
    names        TEXT NOT NULL, -- a JSON list
    pem          TEXT NOT NULL,
    public       BLOB NOT NULL UNIQUE, -- SHA-256 of the public key
    operator     TEXT NOT NULL,
    created      INTEGER NOT NULL
);
CREATE TABLE signer (
    only        INTEGER PRIMARY KEY CHECK (only = 1),
    certificate TEXT NOT NULL,
    authority   TEXT NOT NULL,
    since       INTEGER NOT NULL
);
CREATE TABLE mail (
    only    INTEGER PRIMARY KEY CHECK (only = 1),
    version INTEGER NOT NULL,
    body    TEXT NOT NULL
);
CREATE TABLE "emails" (
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
, about TEXT NOT NULL DEFAULT '');
CREATE TABLE handovers (
    id        TEXT PRIMARY KEY,
    parcel_id TEXT NOT NULL REFERENCES parcels ON DELETE CASCADE,
    link      BLOB NOT NULL UNIQUE,
    passcode  TEXT NOT NULL,
    expires   INTEGER NOT NULL,
    max_uses      INTEGER NOT NULL, -- openings
    uses  INTEGER NOT NULL DEFAULT 0,
    wrong     INTEGER NOT NULL DEFAULT 0, -- tries
    recalled  INTEGER,
    opened    INTEGER, -- first
    fetched   INTEGER, -- first
    operator  TEXT NOT NULL,
    created   INTEGER NOT NULL
, days INTEGER NOT NULL DEFAULT 7, batch TEXT NOT NULL DEFAULT '', sent INTEGER, connected INTEGER, proof BLOB);
CREATE TABLE visits (
    hash        BLOB PRIMARY KEY,
    handover_id TEXT NOT NULL REFERENCES handovers ON DELETE CASCADE,
    expires     INTEGER NOT NULL
, before_ TEXT NOT NULL DEFAULT '', probe TEXT NOT NULL DEFAULT '', v4 TEXT NOT NULL DEFAULT '', v6 TEXT NOT NULL DEFAULT '', resolver TEXT NOT NULL DEFAULT '', proof BLOB) WITHOUT ROWID;
CREATE TABLE "seen_connections" (
    profile_id TEXT NOT NULL REFERENCES profiles ON DELETE CASCADE,
    gateway_id TEXT NOT NULL REFERENCES gateways ON DELETE CASCADE,
    address    TEXT NOT NULL,
    by_        TEXT NOT NULL, -- egress or pool
    first      INTEGER NOT NULL,
    last       INTEGER NOT NULL,
    PRIMARY KEY (profile_id, gateway_id)
) WITHOUT ROWID;
CREATE TABLE "offboardings" (
    id       TEXT PRIMARY KEY,
    noun     TEXT NOT NULL,
    object   TEXT NOT NULL,
    name     TEXT NOT NULL,
    why      TEXT NOT NULL,
    open     INTEGER NOT NULL, -- items to be done
    operator TEXT NOT NULL,
    created  INTEGER NOT NULL,
    body     TEXT NOT NULL -- items
);
CREATE TABLE probes (
    id          TEXT PRIMARY KEY,
    gateway_id  TEXT NOT NULL REFERENCES gateways ON DELETE CASCADE,
    at          INTEGER NOT NULL,
    by_         TEXT NOT NULL,
    state       TEXT NOT NULL,
    differences INTEGER NOT NULL,
    times       TEXT NOT NULL, -- how fast each protocol answered
    body        TEXT NOT NULL
);
CREATE TABLE reports (
    id         TEXT PRIMARY KEY,
    profile_id TEXT NOT NULL REFERENCES profiles ON DELETE CASCADE,
    message       TEXT NOT NULL,
    cause      TEXT NOT NULL, -- the likeliest then
    created    INTEGER NOT NULL,
    done       INTEGER
, facts TEXT NOT NULL DEFAULT '');
CREATE TABLE answer_times (
    gateway_id   TEXT NOT NULL REFERENCES gateways ON DELETE CASCADE,
    person_id    TEXT REFERENCES people ON DELETE CASCADE, -- on whose page; NULL elsewhere
    source       TEXT NOT NULL CHECK (source IN ('probe', 'page', 'rehearsal')),
    place        TEXT NOT NULL,
    latitude     REAL,
    longitude    REAL,
    milliseconds REAL NOT NULL,
    at           INTEGER NOT NULL
);
CREATE TABLE "past_findings" (
    profile_id TEXT REFERENCES profiles ON DELETE CASCADE,
    gateway_id TEXT REFERENCES gateways ON DELETE CASCADE,
    rule       TEXT NOT NULL,
    severity   TEXT NOT NULL,
    field      TEXT NOT NULL,
    since      INTEGER NOT NULL,
    ended      INTEGER NOT NULL
);
CREATE TABLE audit_head (
    only  INTEGER PRIMARY KEY CHECK (only = 1),
    lines INTEGER NOT NULL,
    chain BLOB NOT NULL,
    proof BLOB NOT NULL
);
CREATE TABLE "findings" (
    n            INTEGER PRIMARY KEY,
    profile_id   TEXT REFERENCES profiles ON DELETE CASCADE,
    gateway_id   TEXT REFERENCES gateways ON DELETE CASCADE, -- of the record alone
    rule         TEXT NOT NULL,
    severity     TEXT NOT NULL,
    field        TEXT NOT NULL,
    found        TEXT NOT NULL,
    fix         TEXT NOT NULL,
    noun         TEXT NOT NULL,
    object       TEXT NOT NULL,
    pointer      TEXT NOT NULL,
    fixable     INTEGER NOT NULL,
    overridden       INTEGER NOT NULL,
    since        INTEGER NOT NULL,
    at_gateway   TEXT NOT NULL DEFAULT '',
    gateway_name TEXT NOT NULL DEFAULT '' COLLATE NOCASE,
    device_id    TEXT NOT NULL DEFAULT '',
    device_name  TEXT NOT NULL DEFAULT '' COLLATE NOCASE,
    person_id    TEXT NOT NULL DEFAULT '',
    person_name  TEXT NOT NULL DEFAULT '' COLLATE NOCASE, rank INTEGER AS (CASE severity WHEN 'error' THEN 0 WHEN 'warning' THEN 1 ELSE 2 END) VIRTUAL,
    CHECK ((profile_id IS NULL) <> (gateway_id IS NULL))
);
CREATE TABLE person_groups (
    name      TEXT NOT NULL,
    person_id TEXT NOT NULL REFERENCES people ON DELETE CASCADE,
    PRIMARY KEY (name, person_id)
) WITHOUT ROWID;
CREATE TABLE texts (
    n      INTEGER PRIMARY KEY,
    noun   TEXT NOT NULL,
    record TEXT NOT NULL,
    text   TEXT NOT NULL,
    UNIQUE (noun, record)
);
CREATE VIRTUAL TABLE person_texts USING fts5(text, content='texts', content_rowid='n', tokenize='trigram');
CREATE VIRTUAL TABLE device_texts USING fts5(text, content='texts', content_rowid='n', tokenize='trigram');
CREATE VIRTUAL TABLE gateway_texts USING fts5(text, content='texts', content_rowid='n', tokenize='trigram');
CREATE VIRTUAL TABLE account_texts USING fts5(text, content='texts', content_rowid='n', tokenize='trigram');
CREATE VIRTUAL TABLE certificate_texts USING fts5(text, content='texts', content_rowid='n', tokenize='trigram');
CREATE VIRTUAL TABLE found_texts USING fts5(text, content='texts', content_rowid='n', tokenize='trigram');
CREATE TABLE sizes (
    name TEXT PRIMARY KEY,
    n    INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE rule_sums (
    rule     TEXT NOT NULL,
    severity TEXT NOT NULL,
    profiles INTEGER NOT NULL,
    PRIMARY KEY (rule, severity)
) WITHOUT ROWID;
CREATE TABLE "severities" (
    rule     TEXT PRIMARY KEY,
    severity TEXT NOT NULL CHECK (severity IN ('error', 'warning', 'note', 'off')),
    operator TEXT NOT NULL,
    changed  INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE former (
    owner TEXT NOT NULL,
    field TEXT NOT NULL,
    mark  BLOB NOT NULL,
    until INTEGER NOT NULL,
    PRIMARY KEY (owner, field, mark)
) WITHOUT ROWID;
CREATE TABLE rehearsals (
    id         TEXT PRIMARY KEY,
    profile_id TEXT NOT NULL REFERENCES profiles ON DELETE CASCADE,
    parcel_id  TEXT NOT NULL,
    gateway_id TEXT NOT NULL REFERENCES gateways ON DELETE CASCADE,
    at         INTEGER NOT NULL,
    operator   TEXT NOT NULL,
    login      TEXT NOT NULL, -- that signed in; empty where none did
    state      TEXT NOT NULL, -- running, passed, failed or stopped
    cause      TEXT NOT NULL,
    body       TEXT NOT NULL
, protocol TEXT NOT NULL DEFAULT '', platform TEXT NOT NULL DEFAULT '', place    TEXT NOT NULL DEFAULT '', latest INTEGER NOT NULL DEFAULT 0);
CREATE TABLE rehearsal_cells (
    gateway_id   TEXT NOT NULL REFERENCES gateways ON DELETE CASCADE,
    protocol     TEXT NOT NULL,
    platform     TEXT NOT NULL,
    rehearsal_id TEXT NOT NULL,
    profile_id   TEXT NOT NULL REFERENCES profiles ON DELETE CASCADE,
    state        TEXT NOT NULL,
    failed_at    TEXT NOT NULL, -- step; empty where none failed
    cause        TEXT NOT NULL, -- in words
    place        TEXT NOT NULL,
    at           INTEGER NOT NULL,
    passed       INTEGER NOT NULL, -- when one last passed; 0 where none did
    PRIMARY KEY (gateway_id, protocol, platform)
) WITHOUT ROWID;
CREATE TABLE rehearsal_samples (
    job_id       TEXT NOT NULL REFERENCES jobs ON DELETE CASCADE,
    profile_id   TEXT NOT NULL REFERENCES profiles ON DELETE CASCADE,
    protocol     TEXT NOT NULL, -- of an offer of the gateway; empty: that of the newest parcel
    rehearsal_id TEXT NOT NULL DEFAULT '', -- empty: not begun
    PRIMARY KEY (job_id, profile_id, protocol)
) WITHOUT ROWID;
CREATE TABLE rehearsal_schedules (
    gateway_id TEXT PRIMARY KEY REFERENCES gateways ON DELETE CASCADE,
    followed   INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE imports (
    id       TEXT PRIMARY KEY,
    created  INTEGER NOT NULL,
    operator TEXT NOT NULL,
    file     TEXT NOT NULL,
    noun     TEXT NOT NULL,
    state    TEXT NOT NULL,
    body     TEXT NOT NULL -- the rest, as JSON
) WITHOUT ROWID;
CREATE TABLE import_rows (
    id        INTEGER PRIMARY KEY,
    import_id TEXT NOT NULL REFERENCES imports ON DELETE CASCADE,
    number    INTEGER NOT NULL,
    outcome   TEXT NOT NULL,
    title     TEXT NOT NULL,
    body      TEXT NOT NULL, -- line, changes and problems, as JSON
    cells     TEXT NOT NULL, -- by field, as JSON
    undo      TEXT NOT NULL DEFAULT '', -- what was done, as JSON
    UNIQUE (import_id, number)
);
CREATE TABLE import_mappings (
    noun    TEXT NOT NULL,
    columns TEXT NOT NULL,
    body    TEXT NOT NULL,
    PRIMARY KEY (noun, columns)
) WITHOUT ROWID;
CREATE TABLE directory (
    only    INTEGER PRIMARY KEY CHECK (only = 1),
    version INTEGER NOT NULL,
    body    TEXT NOT NULL,
    state   TEXT NOT NULL DEFAULT '{}'
);
CREATE TABLE sources (
    person_id TEXT PRIMARY KEY REFERENCES people ON DELETE CASCADE,
    kind      TEXT NOT NULL CHECK (kind IN ('directory', 'scim')),
    entry     TEXT NOT NULL, -- entryUUID, or userName
    external  TEXT NOT NULL DEFAULT '',
    body      TEXT NOT NULL DEFAULT '', -- attributes as SCIM's client sent them, as JSON
    missing   INTEGER -- since when it has not been there, or not been active
) WITHOUT ROWID;
CREATE TABLE scim_groups (
    id       TEXT PRIMARY KEY,
    name     TEXT NOT NULL COLLATE NOCASE UNIQUE,
    external TEXT NOT NULL DEFAULT '',
    created  INTEGER NOT NULL,
    changed  INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE replays (
    operator TEXT NOT NULL,
    key      TEXT NOT NULL,
    request  TEXT NOT NULL, -- keyed digest of method, path and body
    created  INTEGER NOT NULL,
    status   INTEGER, -- none while it is being answered
    sealed   BLOB, -- header and body: an answer may hold a secret
    PRIMARY KEY (operator, key)
) WITHOUT ROWID;
CREATE TABLE deliveries (
    gateway_id TEXT PRIMARY KEY REFERENCES gateways ON DELETE CASCADE,
    token      TEXT NOT NULL UNIQUE, -- keyed digest
    created    INTEGER NOT NULL,
    seen       INTEGER,
    runs       TEXT NOT NULL DEFAULT '',
    offered    TEXT NOT NULL DEFAULT '',
    audited    TEXT NOT NULL DEFAULT '' -- digest of what was last handed out, but revocation lists
) WITHOUT ROWID;
CREATE TABLE switchovers (
    id      TEXT PRIMARY KEY,
    version INTEGER NOT NULL,
    created INTEGER NOT NULL,
    changed INTEGER NOT NULL,
    body    TEXT NOT NULL,
    name    TEXT NOT NULL COLLATE NOCASE UNIQUE,
    kind    TEXT NOT NULL,
    state   TEXT NOT NULL,
    cut_off INTEGER,
    gateway_id TEXT REFERENCES gateways ON DELETE SET NULL
);
CREATE TABLE switchover_steps (
    id            TEXT PRIMARY KEY,
    switchover_id TEXT NOT NULL REFERENCES switchovers ON DELETE CASCADE,
    profile_id    TEXT NOT NULL,
    tracked       TEXT NOT NULL,
    wave          INTEGER NOT NULL,
    need          TEXT NOT NULL, -- nothing, tap, run, retype or cannot
    why           TEXT NOT NULL,
    fresh         INTEGER NOT NULL, -- new findings
    successor_id  TEXT NOT NULL DEFAULT '', -- gateway
    open          INTEGER NOT NULL DEFAULT 1,
    released      INTEGER,
    built         INTEGER,
    handed        INTEGER,
    taken         INTEGER,
    seen          INTEGER,
    confirmed     INTEGER,
    reminded      INTEGER,
    state         TEXT GENERATED ALWAYS AS (CASE
        WHEN need IN ('nothing', 'cannot') THEN need
        WHEN seen IS NOT NULL OR confirmed IS NOT NULL THEN 'connected'
        WHEN taken IS NOT NULL THEN 'taken'
        WHEN handed IS NOT NULL THEN 'handed-over'
        WHEN built IS NOT NULL THEN 'built'
        WHEN released IS NOT NULL THEN 'released'
        ELSE 'waiting' END) VIRTUAL,
    UNIQUE (switchover_id, profile_id)
);
CREATE TABLE calendar_feeds (
    operator TEXT PRIMARY KEY,
    token    TEXT NOT NULL UNIQUE, -- keyed digest
    created  INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE job_targets (
    job_id TEXT NOT NULL REFERENCES jobs ON DELETE CASCADE,
    target TEXT NOT NULL,
    PRIMARY KEY (job_id, target)
) WITHOUT ROWID;
CREATE TABLE finding_days (
    day      INTEGER PRIMARY KEY, -- since the epoch
    errors   INTEGER NOT NULL,
    warnings INTEGER NOT NULL
);
CREATE TABLE list_views (
    operator_id TEXT NOT NULL REFERENCES operators ON DELETE CASCADE,
    list        TEXT NOT NULL,
    body        TEXT NOT NULL,
    PRIMARY KEY (operator_id, list)
) WITHOUT ROWID;
CREATE TABLE enrolments (
    id           TEXT PRIMARY KEY,
    device_id    TEXT NOT NULL REFERENCES devices ON DELETE CASCADE,
    authority_id TEXT NOT NULL REFERENCES authorities ON DELETE CASCADE,
    secret       TEXT NOT NULL UNIQUE, -- keyed digest
    expires      INTEGER NOT NULL,
    operator     TEXT NOT NULL,
    created      INTEGER NOT NULL,
    used         INTEGER,
    key          BLOB, -- digest of the public key that it was used for
    serial       TEXT
);
CREATE TABLE registrars (
    authority_id TEXT PRIMARY KEY REFERENCES authorities ON DELETE CASCADE,
    certificate  TEXT NOT NULL,
    expires      INTEGER NOT NULL
);
CREATE TABLE single_sign_on (
    version INTEGER NOT NULL,
    body    TEXT NOT NULL
);
CREATE TABLE operator_links (
    operator_id TEXT PRIMARY KEY REFERENCES operators ON DELETE CASCADE,
    issuer      TEXT NOT NULL,
    subject     TEXT NOT NULL,
    proof       BLOB NOT NULL DEFAULT x'',
    UNIQUE (issuer, subject)
) WITHOUT ROWID;
CREATE TABLE webhooks (
    id       TEXT PRIMARY KEY,
    name     TEXT NOT NULL COLLATE NOCASE UNIQUE,
    url      TEXT NOT NULL,
    events   TEXT NOT NULL, -- with spaces between
    disabled INTEGER NOT NULL DEFAULT 0,
    problem  TEXT NOT NULL DEFAULT '',
    created  INTEGER NOT NULL
);
CREATE TABLE webhook_calls (
    n        INTEGER PRIMARY KEY AUTOINCREMENT,
    hook_id  TEXT NOT NULL REFERENCES webhooks ON DELETE CASCADE,
    body     TEXT NOT NULL,
    created  INTEGER NOT NULL,
    due      INTEGER,           -- null once it is done or given up
    tries    INTEGER NOT NULL DEFAULT 0,
    done     INTEGER,
    problem  TEXT NOT NULL DEFAULT ''
);
CREATE TABLE approvals (
    id       TEXT PRIMARY KEY,
    action   TEXT NOT NULL,
    object   TEXT NOT NULL,
    what     TEXT NOT NULL, -- in words
    role     TEXT NOT NULL, -- that decides
    operator TEXT NOT NULL,
    created  INTEGER NOT NULL,
    decided  INTEGER,
    by       TEXT NOT NULL DEFAULT '',
    granted  INTEGER NOT NULL DEFAULT 0,
    used     INTEGER
);
CREATE TABLE moves (
    job_id TEXT NOT NULL REFERENCES jobs ON DELETE CASCADE,
    profile_id TEXT NOT NULL REFERENCES profiles ON DELETE CASCADE,
    gateway_id TEXT NOT NULL, -- before
    moved_to TEXT NOT NULL,
    PRIMARY KEY (job_id, profile_id)
) WITHOUT ROWID;
CREATE TABLE passkeys (
    id          TEXT PRIMARY KEY,
    operator_id TEXT NOT NULL REFERENCES operators ON DELETE CASCADE,
    credential  BLOB NOT NULL UNIQUE,
    name        TEXT NOT NULL,
    body        TEXT NOT NULL,
    created     INTEGER NOT NULL,
    used        INTEGER,
    proof       BLOB NOT NULL DEFAULT x''
) WITHOUT ROWID;
CREATE TABLE orders (
    gateway_id TEXT PRIMARY KEY REFERENCES gateways ON DELETE CASCADE,
    request    BLOB NOT NULL,    -- PKCS #10, DER
    names      TEXT NOT NULL,    -- with spaces between
    challenge  TEXT NOT NULL,
    state      TEXT NOT NULL DEFAULT 'waiting',
    problem    TEXT NOT NULL DEFAULT '',
    tries      INTEGER NOT NULL DEFAULT 0, -- that failed since the last that did not
    next       INTEGER NOT NULL,
    expires    INTEGER
);
CREATE TABLE confinements (
    operator_id TEXT PRIMARY KEY REFERENCES operators ON DELETE CASCADE,
    people      TEXT NOT NULL, -- names of groups, JSON
    gateways    TEXT NOT NULL, -- identifiers, JSON
    proof       BLOB
);
CREATE TABLE held_certificates (
    device_id TEXT NOT NULL REFERENCES devices ON DELETE CASCADE,
    serial    TEXT NOT NULL,
    on_device INTEGER NOT NULL, -- the device made the key itself, and renews by itself
    PRIMARY KEY (device_id, serial)
) WITHOUT ROWID;
CREATE TABLE "seal" (
    only    INTEGER PRIMARY KEY CHECK (only = 1),
    kind    TEXT NOT NULL CHECK (kind IN ('file', 'passphrase', 'token')),
    salt    BLOB NOT NULL,
    proof   BLOB NOT NULL,
    wrapped BLOB -- the keys below the master key, once that was changed
);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (1, 0, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (10, 9, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (11, 10, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (12, 11, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (13, 12, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (14, 13, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (15, 14, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (16, 15, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (17, 16, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (18, 17, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (19, 18, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (2, 1, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (20, 19, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (21, 20, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (22, 21, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (23, 22, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (24, 23, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (25, 24, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (26, 25, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (27, 26, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (28, 27, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (29, 28, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (3, 2, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (30, 29, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (31, 30, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (32, 31, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (33, 32, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (34, 33, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (35, 34, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (36, 35, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (37, 36, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (38, 37, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (39, 38, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (4, 3, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (40, 39, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (41, 40, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (42, 41, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (43, 42, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (44, 43, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (45, 44, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (5, 4, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (6, 5, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (7, 6, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (8, 7, 1);
INSERT INTO goose_db_version (id, version_id, is_applied) VALUES (9, 8, 1);
INSERT INTO organisation (only, version, name, domain, links, links_v4, links_v6, factors, probe_every, keep_parcels, enrol, four_eyes) VALUES (1, 1, 'Our organisation', 'organisation.example', '', '', '', 0, 0, 90, '', 0);
INSERT INTO mail (only, version, body) VALUES (1, 1, '{}');
INSERT INTO sizes (name, n) VALUES ('accounts', 0);
INSERT INTO sizes (name, n) VALUES ('blocked', 0);
INSERT INTO sizes (name, n) VALUES ('certificates', 0);
INSERT INTO sizes (name, n) VALUES ('clean', 0);
INSERT INTO sizes (name, n) VALUES ('devices', 0);
INSERT INTO sizes (name, n) VALUES ('due', 0);
INSERT INTO sizes (name, n) VALUES ('emails', 0);
INSERT INTO sizes (name, n) VALUES ('errors', 0);
INSERT INTO sizes (name, n) VALUES ('findings', 0);
INSERT INTO sizes (name, n) VALUES ('handovers', 0);
INSERT INTO sizes (name, n) VALUES ('notes', 0);
INSERT INTO sizes (name, n) VALUES ('parcels', 0);
INSERT INTO sizes (name, n) VALUES ('people', 0);
INSERT INTO sizes (name, n) VALUES ('profiles', 0);
INSERT INTO sizes (name, n) VALUES ('warned', 0);
INSERT INTO sizes (name, n) VALUES ('warnings', 0);
INSERT INTO directory (only, version, body, state) VALUES (1, 1, '{"stop_over":10}', '{}');
INSERT INTO single_sign_on (version, body) VALUES (1, '{"issuer": ""}');
CREATE INDEX people_name ON people (name, id);
CREATE INDEX accounts_login ON accounts (login, id);
CREATE INDEX account_gateways_gateway ON account_gateways (gateway_id);
CREATE INDEX devices_person ON devices (person_id);
CREATE INDEX profiles_due ON profiles (id) WHERE touched <> seen;
CREATE INDEX parcels_profile ON parcels (profile_id, built DESC);
CREATE TRIGGER audit_keeps_rows BEFORE DELETE ON audit BEGIN
    SELECT RAISE(ABORT, 'the audit log only grows');
END;
CREATE INDEX profiles_pattern ON profiles (pattern_id) WHERE pattern_id IS NOT NULL;
CREATE INDEX jobs_running ON jobs (created) WHERE state = 'running';
CREATE INDEX jobs_created ON jobs (created DESC, id);
CREATE INDEX secrets_mark ON secrets (mark) WHERE mark IS NOT NULL;
CREATE INDEX accounts_alike ON accounts (lower(login));
CREATE INDEX certificates_subject ON certificates (subject, id);
CREATE INDEX certificates_device ON certificates (device_id) WHERE device_id IS NOT NULL;
CREATE INDEX certificates_gateway ON certificates (gateway_id) WHERE gateway_id IS NOT NULL;
CREATE INDEX certificates_serial ON certificates (serial);
CREATE INDEX requests_created ON requests (created);
CREATE INDEX certificates_created ON certificates (authority_id, created);
CREATE INDEX sessions_operator ON sessions (operator_id);
CREATE INDEX handovers_parcel ON handovers (parcel_id);
CREATE INDEX handovers_created ON handovers (created);
CREATE INDEX handovers_batch ON handovers (batch) WHERE batch <> '';
CREATE UNIQUE INDEX visits_probe ON visits (probe) WHERE probe <> '';
CREATE INDEX probes_gateway ON probes (gateway_id, at DESC);
CREATE INDEX probes_at ON probes (at DESC);
CREATE INDEX reports_profile ON reports (profile_id, created DESC);
CREATE INDEX answer_times_gateway ON answer_times (gateway_id, at DESC);
CREATE INDEX answer_times_person ON answer_times (person_id, gateway_id, at DESC) WHERE person_id IS NOT NULL;
CREATE INDEX answer_times_at ON answer_times (at);
CREATE INDEX gateways_due ON gateways (id) WHERE touched <> seen;
CREATE INDEX past_findings_ended ON past_findings (ended);
CREATE INDEX past_findings_profile ON past_findings (profile_id);
CREATE INDEX devices_by_person ON devices (person_name, name, id);
CREATE INDEX devices_by_platform ON devices (platform, name, id);
CREATE INDEX devices_changed ON devices (changed, id);
CREATE INDEX devices_by_name ON devices (name, id);
CREATE INDEX accounts_by_person ON accounts (person_name, login, id);
CREATE INDEX accounts_changed ON accounts (changed, id);
CREATE INDEX people_mail ON people (mail, id);
CREATE INDEX people_changed ON people (changed, id);
CREATE INDEX profiles_by_device ON profiles (device_name, gateway_name, id);
CREATE INDEX profiles_by_gateway ON profiles (gateway_name, device_name, id);
CREATE INDEX profiles_by_person ON profiles (person_name, device_name, id);
CREATE INDEX profiles_person ON profiles (person_id);
CREATE INDEX profiles_platform ON profiles (platform, device_name);
CREATE INDEX profiles_changed ON profiles (changed, id);
CREATE INDEX profiles_gateway ON profiles (gateway_id, device_name);
CREATE INDEX profiles_worst ON profiles (errors, warnings, id);
CREATE INDEX findings_profile ON findings (profile_id, rule);
CREATE INDEX findings_gateway ON findings (gateway_id) WHERE gateway_id IS NOT NULL;
CREATE INDEX findings_rule ON findings (rule, severity);
CREATE INDEX findings_severity ON findings (severity, rule, profile_id);
CREATE INDEX findings_since ON findings (since);
CREATE INDEX findings_found ON findings (found);
CREATE INDEX findings_at_gateway ON findings (at_gateway);
CREATE INDEX findings_device ON findings (device_id);
CREATE INDEX findings_person ON findings (person_id);
CREATE INDEX findings_by_gateway ON findings (gateway_name, n);
CREATE INDEX findings_by_device ON findings (device_name, n);
CREATE INDEX findings_by_person ON findings (person_name, n);
CREATE INDEX devices_site ON devices (id) WHERE json_extract(iif(json_valid(body), body, '{}'), '$.site') IS NOT NULL;
CREATE INDEX parcels_built ON parcels (built) WHERE removed IS NULL;
CREATE INDEX certificates_revoked ON certificates (authority_id, revoked, serial, expires, reason) WHERE revoked IS NOT NULL;
CREATE INDEX person_groups_person ON person_groups (person_id);
CREATE TRIGGER person_texts_in AFTER INSERT ON texts WHEN NEW.noun = 'person' BEGIN
    INSERT INTO person_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
CREATE TRIGGER person_texts_out AFTER DELETE ON texts WHEN OLD.noun = 'person' BEGIN
    INSERT INTO person_texts (person_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
END;
CREATE TRIGGER person_texts_anew AFTER UPDATE OF text ON texts WHEN OLD.noun = 'person' AND OLD.text <> NEW.text BEGIN
    INSERT INTO person_texts (person_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
    INSERT INTO person_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
CREATE TRIGGER device_texts_in AFTER INSERT ON texts WHEN NEW.noun = 'device' BEGIN
    INSERT INTO device_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
CREATE TRIGGER device_texts_out AFTER DELETE ON texts WHEN OLD.noun = 'device' BEGIN
    INSERT INTO device_texts (device_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
END;
CREATE TRIGGER device_texts_anew AFTER UPDATE OF text ON texts WHEN OLD.noun = 'device' AND OLD.text <> NEW.text BEGIN
    INSERT INTO device_texts (device_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
    INSERT INTO device_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
CREATE TRIGGER gateway_texts_in AFTER INSERT ON texts WHEN NEW.noun = 'gateway' BEGIN
    INSERT INTO gateway_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
CREATE TRIGGER gateway_texts_out AFTER DELETE ON texts WHEN OLD.noun = 'gateway' BEGIN
    INSERT INTO gateway_texts (gateway_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
END;
CREATE TRIGGER gateway_texts_anew AFTER UPDATE OF text ON texts WHEN OLD.noun = 'gateway' AND OLD.text <> NEW.text BEGIN
    INSERT INTO gateway_texts (gateway_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
    INSERT INTO gateway_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
CREATE TRIGGER account_texts_in AFTER INSERT ON texts WHEN NEW.noun = 'account' BEGIN
    INSERT INTO account_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
CREATE TRIGGER account_texts_out AFTER DELETE ON texts WHEN OLD.noun = 'account' BEGIN
    INSERT INTO account_texts (account_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
END;
CREATE TRIGGER account_texts_anew AFTER UPDATE OF text ON texts WHEN OLD.noun = 'account' AND OLD.text <> NEW.text BEGIN
    INSERT INTO account_texts (account_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
    INSERT INTO account_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
CREATE TRIGGER certificate_texts_in AFTER INSERT ON texts WHEN NEW.noun = 'certificate' BEGIN
    INSERT INTO certificate_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
CREATE TRIGGER certificate_texts_out AFTER DELETE ON texts WHEN OLD.noun = 'certificate' BEGIN
    INSERT INTO certificate_texts (certificate_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
END;
CREATE TRIGGER certificate_texts_anew AFTER UPDATE OF text ON texts WHEN OLD.noun = 'certificate' AND OLD.text <> NEW.text BEGIN
    INSERT INTO certificate_texts (certificate_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
    INSERT INTO certificate_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
CREATE TRIGGER found_texts_in AFTER INSERT ON texts WHEN NEW.noun = 'found' BEGIN
    INSERT INTO found_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
CREATE TRIGGER found_texts_out AFTER DELETE ON texts WHEN OLD.noun = 'found' BEGIN
    INSERT INTO found_texts (found_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
END;
CREATE TRIGGER found_texts_anew AFTER UPDATE OF text ON texts WHEN OLD.noun = 'found' AND OLD.text <> NEW.text BEGIN
    INSERT INTO found_texts (found_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
    INSERT INTO found_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
CREATE TRIGGER people_in AFTER INSERT ON people BEGIN
    INSERT INTO texts (noun, record, text) VALUES ('person', NEW.id, NEW.name || char(10) || NEW.mail);
    INSERT OR IGNORE INTO person_groups SELECT value, NEW.id FROM json_each(iif(json_valid(NEW.body), NEW.body, '{}'), '$.groups');
END;
CREATE TRIGGER people_named AFTER UPDATE OF name, mail ON people WHEN OLD.name <> NEW.name OR OLD.mail <> NEW.mail BEGIN
    UPDATE texts SET text = NEW.name || char(10) || NEW.mail WHERE noun = 'person' AND record = NEW.id;
    UPDATE devices SET person_name = NEW.name WHERE person_id = NEW.id AND OLD.name <> NEW.name;
    UPDATE accounts SET person_name = NEW.name WHERE person_id = NEW.id AND OLD.name <> NEW.name;
END;
CREATE TRIGGER people_grouped AFTER UPDATE OF body ON people WHEN NOT json_valid(OLD.body) OR json_extract(iif(json_valid(OLD.body), OLD.body, '{}'), '$.groups') IS NOT json_extract(iif(json_valid(NEW.body), NEW.body, '{}'), '$.groups') BEGIN
    DELETE FROM person_groups WHERE person_id = NEW.id;
    INSERT OR IGNORE INTO person_groups SELECT value, NEW.id FROM json_each(iif(json_valid(NEW.body), NEW.body, '{}'), '$.groups');
END;
CREATE TRIGGER people_out AFTER DELETE ON people BEGIN
    DELETE FROM texts WHERE noun = 'person' AND record = OLD.id;
END;
CREATE TRIGGER devices_in AFTER INSERT ON devices BEGIN
    INSERT INTO texts (noun, record, text) VALUES ('device', NEW.id, NEW.name);
    UPDATE devices SET person_name = COALESCE((SELECT name FROM people WHERE id = NEW.person_id), '') WHERE id = NEW.id;
END;
CREATE TRIGGER devices_moved AFTER UPDATE OF person_id ON devices WHEN OLD.person_id <> NEW.person_id BEGIN
    UPDATE devices SET person_name = COALESCE((SELECT name FROM people WHERE id = NEW.person_id), '') WHERE id = NEW.id;
    UPDATE profiles SET person_id = NEW.person_id WHERE device_id = NEW.id;
END;
CREATE TRIGGER devices_named AFTER UPDATE OF name, person_name, platform ON devices WHEN OLD.name <> NEW.name OR OLD.person_name <> NEW.person_name OR OLD.platform <> NEW.platform BEGIN
    UPDATE texts SET text = NEW.name WHERE noun = 'device' AND record = NEW.id;
    UPDATE profiles SET device_name = NEW.name, person_name = NEW.person_name, platform = NEW.platform WHERE device_id = NEW.id;
END;
CREATE TRIGGER devices_out AFTER DELETE ON devices BEGIN
    DELETE FROM texts WHERE noun = 'device' AND record = OLD.id;
END;
CREATE TRIGGER gateways_in AFTER INSERT ON gateways BEGIN
    INSERT INTO texts (noun, record, text) VALUES ('gateway', NEW.id, NEW.name || char(10) || NEW.address || char(10) || NEW.city);
END;
CREATE TRIGGER gateways_named AFTER UPDATE OF name, address, city ON gateways WHEN OLD.name <> NEW.name OR OLD.address <> NEW.address OR OLD.city <> NEW.city BEGIN
    UPDATE texts SET text = NEW.name || char(10) || NEW.address || char(10) || NEW.city WHERE noun = 'gateway' AND record = NEW.id;
    UPDATE profiles SET gateway_name = NEW.name WHERE gateway_id = NEW.id AND OLD.name <> NEW.name;
    UPDATE findings SET gateway_name = NEW.name WHERE gateway_id = NEW.id AND OLD.name <> NEW.name;
END;
CREATE TRIGGER gateways_out AFTER DELETE ON gateways BEGIN
    DELETE FROM texts WHERE noun = 'gateway' AND record = OLD.id;
END;
CREATE TRIGGER accounts_in AFTER INSERT ON accounts BEGIN
    INSERT INTO texts (noun, record, text) VALUES ('account', NEW.id, NEW.login || char(10) || NEW.realm);
    UPDATE accounts SET person_name = COALESCE((SELECT name FROM people WHERE id = NEW.person_id), '') WHERE id = NEW.id;
END;
CREATE TRIGGER accounts_named AFTER UPDATE OF login, realm, person_id ON accounts WHEN OLD.login <> NEW.login OR OLD.realm <> NEW.realm OR OLD.person_id <> NEW.person_id BEGIN
    UPDATE texts SET text = NEW.login || char(10) || NEW.realm WHERE noun = 'account' AND record = NEW.id;
    UPDATE accounts SET person_name = COALESCE((SELECT name FROM people WHERE id = NEW.person_id), '') WHERE id = NEW.id AND OLD.person_id <> NEW.person_id;
END;
CREATE TRIGGER accounts_out AFTER DELETE ON accounts BEGIN
    DELETE FROM texts WHERE noun = 'account' AND record = OLD.id;
END;
CREATE TRIGGER certificates_in AFTER INSERT ON certificates BEGIN
    INSERT INTO texts (noun, record, text) VALUES ('certificate', NEW.id, NEW.subject || char(10) || NEW.names || char(10) || NEW.serial);
END;
CREATE TRIGGER certificates_out AFTER DELETE ON certificates BEGIN
    DELETE FROM texts WHERE noun = 'certificate' AND record = OLD.id;
END;
CREATE TRIGGER profiles_in AFTER INSERT ON profiles BEGIN
    UPDATE profiles SET (device_name, person_id, person_name, platform) = (SELECT d.name, d.person_id, d.person_name, d.platform FROM devices d WHERE d.id = NEW.device_id),
        gateway_name = (SELECT g.name FROM gateways g WHERE g.id = NEW.gateway_id) WHERE id = NEW.id;
    UPDATE gateways SET profiles = profiles + 1 WHERE id = NEW.gateway_id;
    UPDATE sizes SET n = n + 1 WHERE name = 'profiles' OR name = 'due' AND NEW.touched <> NEW.seen;
END;
CREATE TRIGGER profiles_moved AFTER UPDATE OF device_id, gateway_id ON profiles WHEN OLD.device_id <> NEW.device_id OR OLD.gateway_id <> NEW.gateway_id BEGIN
    UPDATE profiles SET (device_name, person_id, person_name, platform) = (SELECT d.name, d.person_id, d.person_name, d.platform FROM devices d WHERE d.id = NEW.device_id),
        gateway_name = (SELECT g.name FROM gateways g WHERE g.id = NEW.gateway_id) WHERE id = NEW.id;
    UPDATE gateways SET profiles = profiles - 1 WHERE id = OLD.gateway_id;
    UPDATE gateways SET profiles = profiles + 1 WHERE id = NEW.gateway_id;
    UPDATE findings SET at_gateway = NEW.gateway_id, device_id = NEW.device_id WHERE profile_id = NEW.id;
END;
CREATE TRIGGER profiles_named AFTER UPDATE OF device_name, gateway_name, person_id, person_name ON profiles
WHEN OLD.device_name <> NEW.device_name OR OLD.gateway_name <> NEW.gateway_name OR OLD.person_id <> NEW.person_id OR OLD.person_name <> NEW.person_name BEGIN
    UPDATE findings SET gateway_name = NEW.gateway_name, device_name = NEW.device_name, person_id = NEW.person_id, person_name = NEW.person_name WHERE profile_id = NEW.id;
END;
CREATE TRIGGER profiles_due AFTER UPDATE OF touched, seen ON profiles WHEN (OLD.touched <> OLD.seen) <> (NEW.touched <> NEW.seen) BEGIN
    UPDATE sizes SET n = n + (NEW.touched <> NEW.seen) - (OLD.touched <> OLD.seen) WHERE name = 'due';
    UPDATE sizes SET n = n + (NEW.touched = NEW.seen) - (OLD.touched = OLD.seen) WHERE name = 'clean' AND OLD.errors + OLD.warnings = 0 AND NEW.errors + NEW.warnings = 0;
END;
CREATE TRIGGER findings_in AFTER INSERT ON findings BEGIN
    UPDATE sizes SET n = n + 1 WHERE name = 'findings';
    INSERT INTO rule_sums VALUES (NEW.rule, NEW.severity, NEW.profile_id IS NOT NULL)
        ON CONFLICT DO UPDATE SET profiles = profiles + (NEW.profile_id IS NOT NULL AND NOT EXISTS (SELECT 1 FROM findings WHERE profile_id = NEW.profile_id AND rule = NEW.rule AND severity = NEW.severity AND n <> NEW.n));
    INSERT OR IGNORE INTO texts (noun, record, text) VALUES ('found', NEW.found, NEW.found);
END;
CREATE TRIGGER findings_out AFTER DELETE ON findings BEGIN
    UPDATE sizes SET n = n - 1 WHERE name = 'findings';
    UPDATE rule_sums SET profiles = profiles - (OLD.profile_id IS NOT NULL AND NOT EXISTS (SELECT 1 FROM findings WHERE profile_id = OLD.profile_id AND rule = OLD.rule AND severity = OLD.severity)) WHERE rule = OLD.rule AND severity = OLD.severity;
    DELETE FROM rule_sums WHERE rule = OLD.rule AND severity = OLD.severity AND profiles <= 0 AND NOT EXISTS (SELECT 1 FROM findings WHERE rule = OLD.rule AND severity = OLD.severity);
END;
CREATE TRIGGER people_more AFTER INSERT ON people BEGIN UPDATE sizes SET n = n + 1 WHERE name = 'people'; END;
CREATE TRIGGER people_less AFTER DELETE ON people BEGIN UPDATE sizes SET n = n - 1 WHERE name = 'people'; END;
CREATE TRIGGER devices_more AFTER INSERT ON devices BEGIN UPDATE sizes SET n = n + 1 WHERE name = 'devices'; END;
CREATE TRIGGER devices_less AFTER DELETE ON devices BEGIN UPDATE sizes SET n = n - 1 WHERE name = 'devices'; END;
CREATE TRIGGER accounts_more AFTER INSERT ON accounts BEGIN UPDATE sizes SET n = n + 1 WHERE name = 'accounts'; END;
CREATE TRIGGER accounts_less AFTER DELETE ON accounts BEGIN UPDATE sizes SET n = n - 1 WHERE name = 'accounts'; END;
CREATE TRIGGER parcels_more AFTER INSERT ON parcels BEGIN UPDATE sizes SET n = n + 1 WHERE name = 'parcels'; END;
CREATE TRIGGER parcels_less AFTER DELETE ON parcels BEGIN UPDATE sizes SET n = n - 1 WHERE name = 'parcels'; END;
CREATE TRIGGER certificates_more AFTER INSERT ON certificates BEGIN UPDATE sizes SET n = n + 1 WHERE name = 'certificates'; END;
CREATE TRIGGER certificates_less AFTER DELETE ON certificates BEGIN UPDATE sizes SET n = n - 1 WHERE name = 'certificates'; END;
CREATE TRIGGER handovers_more AFTER INSERT ON handovers BEGIN UPDATE sizes SET n = n + 1 WHERE name = 'handovers'; END;
CREATE TRIGGER handovers_less AFTER DELETE ON handovers BEGIN UPDATE sizes SET n = n - 1 WHERE name = 'handovers'; END;
CREATE TRIGGER profiles_counted AFTER UPDATE OF errors, warnings, notes ON profiles
WHEN OLD.errors <> NEW.errors OR OLD.warnings <> NEW.warnings OR OLD.notes <> NEW.notes BEGIN
    UPDATE sizes SET n = n + CASE name
        WHEN 'errors' THEN NEW.errors - OLD.errors WHEN 'warnings' THEN NEW.warnings - OLD.warnings WHEN 'notes' THEN NEW.notes - OLD.notes
        WHEN 'blocked' THEN (NEW.errors > 0) - (OLD.errors > 0)
        WHEN 'warned' THEN (NEW.errors = 0 AND NEW.warnings > 0) - (OLD.errors = 0 AND OLD.warnings > 0)
        ELSE CASE WHEN OLD.errors + OLD.warnings = 0 AND NEW.errors + NEW.warnings = 0 THEN 0
            ELSE (NEW.errors = 0 AND NEW.warnings = 0 AND NEW.touched = NEW.seen) - (OLD.errors = 0 AND OLD.warnings = 0 AND OLD.touched = OLD.seen) END
        END WHERE name IN ('errors', 'warnings', 'notes', 'blocked', 'warned', 'clean');
END;
CREATE TRIGGER profiles_out AFTER DELETE ON profiles BEGIN
    UPDATE gateways SET profiles = profiles - 1 WHERE id = OLD.gateway_id;
    UPDATE sizes SET n = n - CASE name
        WHEN 'profiles' THEN 1 WHEN 'due' THEN OLD.touched <> OLD.seen
        WHEN 'errors' THEN OLD.errors WHEN 'warnings' THEN OLD.warnings WHEN 'notes' THEN OLD.notes
        WHEN 'blocked' THEN OLD.errors > 0 WHEN 'warned' THEN OLD.errors = 0 AND OLD.warnings > 0
        ELSE OLD.errors = 0 AND OLD.warnings = 0 AND OLD.touched = OLD.seen END
        WHERE name IN ('profiles', 'due', 'errors', 'warnings', 'notes', 'blocked', 'warned', 'clean');
END;
CREATE INDEX findings_rank ON findings (rank, rule, n);
CREATE INDEX certificates_expires ON certificates (expires);
CREATE INDEX devices_identity_expires ON devices (identity_expires) WHERE identity_expires IS NOT NULL;
CREATE INDEX offboardings_object ON offboardings (object);
CREATE INDEX emails_due ON emails (due) WHERE state = 'waiting';
CREATE INDEX emails_created ON emails (created);
CREATE TRIGGER emails_more AFTER INSERT ON emails BEGIN UPDATE sizes SET n = n + 1 WHERE name = 'emails'; END;
CREATE TRIGGER emails_less AFTER DELETE ON emails BEGIN UPDATE sizes SET n = n - 1 WHERE name = 'emails'; END;
CREATE INDEX profiles_fallback ON profiles (json_extract(iif(json_valid(body), body, '{}'), '$.preferences.fallback_id'))
    WHERE json_extract(iif(json_valid(body), body, '{}'), '$.preferences.fallback_id') IS NOT NULL;
CREATE INDEX profiles_second ON profiles (json_extract(iif(json_valid(body), body, '{}'), '$.preferences.second_to'))
    WHERE json_extract(iif(json_valid(body), body, '{}'), '$.preferences.second_to') IS NOT NULL;
CREATE TRIGGER secrets_former AFTER UPDATE OF mark ON secrets
WHEN OLD.mark IS NOT NULL AND OLD.mark IS NOT NEW.mark BEGIN
    INSERT INTO former (owner, field, mark, until) VALUES (OLD.owner, OLD.field, OLD.mark, NEW.changed)
        ON CONFLICT DO UPDATE SET until = excluded.until;
    DELETE FROM former WHERE owner = OLD.owner AND field = OLD.field AND mark NOT IN (
        SELECT mark FROM former WHERE owner = OLD.owner AND field = OLD.field ORDER BY until DESC LIMIT 5);
END;
CREATE INDEX rehearsals_profile ON rehearsals (profile_id, at DESC);
CREATE INDEX rehearsals_gateway ON rehearsals (gateway_id, login, at DESC);
CREATE INDEX rehearsals_at ON rehearsals (at DESC);
CREATE INDEX rehearsals_latest ON rehearsals (latest, at DESC);
CREATE INDEX rehearsal_cells_profile ON rehearsal_cells (profile_id);
CREATE INDEX rehearsal_samples_profile ON rehearsal_samples (profile_id);
CREATE INDEX rehearsal_samples_rehearsal ON rehearsal_samples (rehearsal_id);
CREATE INDEX rehearsal_cells_platform ON rehearsal_cells (platform);
CREATE INDEX imports_created ON imports (created DESC, id);
CREATE INDEX import_rows_outcome ON import_rows (import_id, outcome, number);
CREATE INDEX people_alike ON people (lower(name));
CREATE INDEX people_mail_alike ON people (lower(mail));
CREATE UNIQUE INDEX sources_entry ON sources (kind, lower(entry));
CREATE INDEX sources_missing ON sources (missing) WHERE missing IS NOT NULL;
CREATE INDEX replays_created ON replays (created);
CREATE INDEX switchovers_gateway ON switchovers (gateway_id);
CREATE INDEX switchover_steps_state ON switchover_steps (switchover_id, state, wave);
CREATE INDEX switchover_steps_profile ON switchover_steps (profile_id);
CREATE INDEX switchover_steps_tracked ON switchover_steps (tracked) WHERE open = 1;
CREATE TRIGGER switchover_built AFTER INSERT ON parcels BEGIN
    UPDATE switchover_steps SET built = NEW.built WHERE tracked = NEW.profile_id AND open = 1
        AND built IS NULL AND released <= NEW.built;
END;
CREATE INDEX audit_object ON audit (object, seq);
CREATE TRIGGER switchover_handed AFTER INSERT ON handovers BEGIN
    UPDATE switchover_steps SET handed = NEW.created WHERE open = 1 AND handed IS NULL
        AND built IS NOT NULL
        AND tracked = (SELECT profile_id FROM parcels WHERE id = NEW.parcel_id)
        AND released <= (SELECT built FROM parcels WHERE id = NEW.parcel_id);
END;
CREATE TRIGGER switchover_taken AFTER UPDATE OF fetched ON handovers
WHEN NEW.fetched IS NOT NULL BEGIN
    UPDATE switchover_steps SET taken = NEW.fetched WHERE open = 1 AND taken IS NULL
        AND tracked = (SELECT profile_id FROM parcels WHERE id = NEW.parcel_id)
        AND released <= (SELECT built FROM parcels WHERE id = NEW.parcel_id);
END;
CREATE TRIGGER switchover_seen AFTER UPDATE OF connected ON handovers
WHEN NEW.connected IS NOT NULL BEGIN
    UPDATE switchover_steps SET seen = NEW.connected WHERE open = 1 AND seen IS NULL
        AND tracked = (SELECT profile_id FROM parcels WHERE id = NEW.parcel_id)
        AND released <= (SELECT built FROM parcels WHERE id = NEW.parcel_id);
END;
CREATE INDEX enrolments_device ON enrolments (device_id, created DESC);
CREATE INDEX enrolments_expires ON enrolments (expires);
CREATE INDEX webhook_calls_due ON webhook_calls (due) WHERE due IS NOT NULL;
CREATE INDEX webhook_calls_hook ON webhook_calls (hook_id, n DESC);
CREATE INDEX webhook_calls_created ON webhook_calls (created);
CREATE INDEX approvals_created ON approvals (created DESC);
CREATE INDEX moves_profile ON moves (profile_id);
CREATE INDEX passkeys_operator ON passkeys (operator_id);
CREATE INDEX orders_next ON orders (next);
CREATE INDEX held_certificates_serial ON held_certificates (serial);
