-- +goose Up
ALTER TABLE authorities ADD COLUMN successor_id TEXT REFERENCES authorities;
ALTER TABLE authorities ADD COLUMN crossed INTEGER; -- since when its successor is believed too

-- Requests that wait for a certificate from an authority whose key is kept elsewhere. Their keys
-- are among the sealed secrets.
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
CREATE INDEX requests_created ON requests (created);

-- What signs parcels. Its key is among the sealed secrets.
CREATE TABLE signer (
    only        INTEGER PRIMARY KEY CHECK (only = 1),
    certificate TEXT NOT NULL,
    authority   TEXT NOT NULL,
    since       INTEGER NOT NULL
);
CREATE INDEX certificates_created ON certificates (authority_id, created);

-- +goose Down
DROP INDEX certificates_created;
DROP TABLE signer;
DROP TABLE requests;
ALTER TABLE authorities DROP COLUMN crossed;
ALTER TABLE authorities DROP COLUMN successor_id;
