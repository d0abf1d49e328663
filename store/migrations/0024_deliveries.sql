-- +goose Up
-- Gateways that fetch their configuration: by which token, when last, and which version they run.
CREATE TABLE deliveries (
    gateway_id TEXT PRIMARY KEY REFERENCES gateways ON DELETE CASCADE,
    token      TEXT NOT NULL UNIQUE, -- keyed digest
    created    INTEGER NOT NULL,
    seen       INTEGER,
    runs       TEXT NOT NULL DEFAULT '',
    offered    TEXT NOT NULL DEFAULT '',
    audited    TEXT NOT NULL DEFAULT '' -- digest of what was last handed out, but revocation lists
) WITHOUT ROWID;

-- +goose Down
DROP TABLE deliveries;
