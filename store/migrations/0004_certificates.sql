-- +goose Up
CREATE TABLE authorities (
    id      TEXT PRIMARY KEY,
    version INTEGER NOT NULL,
    name    TEXT NOT NULL COLLATE NOCASE UNIQUE,
    ends    INTEGER NOT NULL,
    body    TEXT NOT NULL,
    created INTEGER NOT NULL,
    changed INTEGER NOT NULL
);

-- What was issued here. Rows stay as long as their authority, whatever becomes of the device.
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
    ends         INTEGER NOT NULL,
    revoked      INTEGER,
    reason       TEXT NOT NULL DEFAULT '',
    pem          TEXT NOT NULL,
    operator     TEXT NOT NULL,
    created      INTEGER NOT NULL,
    UNIQUE (authority_id, serial)
);
CREATE INDEX certificates_ends ON certificates (ends);
CREATE INDEX certificates_subject ON certificates (subject, id);
CREATE INDEX certificates_device ON certificates (device_id) WHERE device_id IS NOT NULL;
CREATE INDEX certificates_gateway ON certificates (gateway_id) WHERE gateway_id IS NOT NULL;
CREATE INDEX certificates_revoked ON certificates (authority_id, revoked) WHERE revoked IS NOT NULL;
CREATE INDEX certificates_serial ON certificates (serial);

-- +goose Down
DROP TABLE certificates;
DROP TABLE authorities;
