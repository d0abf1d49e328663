-- +goose Up
-- What gateways answered when they were asked, and after how many hours they are asked again.
ALTER TABLE organisation ADD COLUMN ask_every INTEGER NOT NULL DEFAULT 0;

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
CREATE INDEX probes_gateway ON probes (gateway_id, at DESC);
CREATE INDEX probes_at ON probes (at DESC);

-- When a secret was last changed.
ALTER TABLE secrets ADD COLUMN changed INTEGER NOT NULL DEFAULT 0;

-- What people said does not work, with secrets masked.
CREATE TABLE reports (
    id         TEXT PRIMARY KEY,
    profile_id TEXT NOT NULL REFERENCES profiles ON DELETE CASCADE,
    said       TEXT NOT NULL,
    cause      TEXT NOT NULL, -- the likeliest then
    created    INTEGER NOT NULL,
    done       INTEGER
);
CREATE INDEX reports_profile ON reports (profile_id, created DESC);

-- +goose Down
DROP TABLE reports;
ALTER TABLE secrets DROP COLUMN changed;
DROP TABLE probes;
ALTER TABLE organisation DROP COLUMN ask_every;
