-- +goose Up
-- Trial connections to gateways by the files of a parcel, and what they came to.
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
);
CREATE INDEX rehearsals_profile ON rehearsals (profile_id, at DESC);
CREATE INDEX rehearsals_gateway ON rehearsals (gateway_id, login, at DESC);
CREATE INDEX rehearsals_at ON rehearsals (at DESC);

-- +goose Down
DROP TABLE rehearsals;
