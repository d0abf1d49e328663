-- +goose Up
-- How people reach the service: what links begin with, and the same by IPv4 and by IPv6 alone.
ALTER TABLE organisation ADD COLUMN links TEXT NOT NULL DEFAULT '';
ALTER TABLE organisation ADD COLUMN links_v4 TEXT NOT NULL DEFAULT '';
ALTER TABLE organisation ADD COLUMN links_v6 TEXT NOT NULL DEFAULT '';
ALTER TABLE organisation ADD COLUMN factors INTEGER NOT NULL DEFAULT 0; -- every operator must have a second factor

ALTER TABLE handovers ADD COLUMN days INTEGER NOT NULL DEFAULT 7; -- that it was made for
ALTER TABLE handovers ADD COLUMN batch TEXT NOT NULL DEFAULT ''; -- the job that made it
ALTER TABLE handovers ADD COLUMN sent INTEGER; -- when the letter with the link left
ALTER TABLE handovers ADD COLUMN connected INTEGER; -- when the device was first seen through the gateway
CREATE INDEX handovers_batch ON handovers (batch) WHERE batch <> '';

-- What a letter is about: the handover whose link it carries.
ALTER TABLE letters ADD COLUMN about TEXT NOT NULL DEFAULT '';

-- What a browser that has opened a handover was seen from: before it connected, and by each family and resolver since.
ALTER TABLE visits ADD COLUMN before_ TEXT NOT NULL DEFAULT '';
ALTER TABLE visits ADD COLUMN probe TEXT NOT NULL DEFAULT ''; -- a one-time name
ALTER TABLE visits ADD COLUMN v4 TEXT NOT NULL DEFAULT '';
ALTER TABLE visits ADD COLUMN v6 TEXT NOT NULL DEFAULT '';
ALTER TABLE visits ADD COLUMN resolver TEXT NOT NULL DEFAULT '';
CREATE UNIQUE INDEX visits_probe ON visits (probe) WHERE probe <> '';

-- A device that was seen through a gateway.
CREATE TABLE sightings (
    profile_id TEXT NOT NULL REFERENCES profiles ON DELETE CASCADE,
    gateway_id TEXT NOT NULL REFERENCES gateways ON DELETE CASCADE,
    address    TEXT NOT NULL,
    by_        TEXT NOT NULL, -- egress or pool
    first      INTEGER NOT NULL,
    last       INTEGER NOT NULL,
    PRIMARY KEY (profile_id, gateway_id)
) WITHOUT ROWID;

-- Somebody who left, or a device that is lost, with what is still to be done.
CREATE TABLE withdrawals (
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
CREATE INDEX withdrawals_object ON withdrawals (object);

-- +goose Down
DROP TABLE withdrawals;
DROP TABLE sightings;
DROP INDEX visits_probe;
ALTER TABLE visits DROP COLUMN resolver;
ALTER TABLE visits DROP COLUMN v6;
ALTER TABLE visits DROP COLUMN v4;
ALTER TABLE visits DROP COLUMN probe;
ALTER TABLE visits DROP COLUMN before_;
ALTER TABLE letters DROP COLUMN about;
DROP INDEX handovers_batch;
ALTER TABLE handovers DROP COLUMN connected;
ALTER TABLE handovers DROP COLUMN sent;
ALTER TABLE handovers DROP COLUMN batch;
ALTER TABLE handovers DROP COLUMN days;
ALTER TABLE organisation DROP COLUMN factors;
ALTER TABLE organisation DROP COLUMN links_v6;
ALTER TABLE organisation DROP COLUMN links_v4;
ALTER TABLE organisation DROP COLUMN links;
