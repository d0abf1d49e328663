-- +goose Up
-- A parcel on its way to its person. Link and passcode are kept as hashes alone.
CREATE TABLE handovers (
    id        TEXT PRIMARY KEY,
    parcel_id TEXT NOT NULL REFERENCES parcels ON DELETE CASCADE,
    link      BLOB NOT NULL UNIQUE,
    passcode  TEXT NOT NULL,
    expires   INTEGER NOT NULL,
    most      INTEGER NOT NULL, -- openings
    openings  INTEGER NOT NULL DEFAULT 0,
    wrong     INTEGER NOT NULL DEFAULT 0, -- tries
    recalled  INTEGER,
    opened    INTEGER, -- first
    fetched   INTEGER, -- first
    operator  TEXT NOT NULL,
    created   INTEGER NOT NULL
);
CREATE INDEX handovers_parcel ON handovers (parcel_id);
CREATE INDEX handovers_created ON handovers (created);

-- What was opened stays open for a while, for the browser that did it.
CREATE TABLE visits (
    hash        BLOB PRIMARY KEY,
    handover_id TEXT NOT NULL REFERENCES handovers ON DELETE CASCADE,
    expires     INTEGER NOT NULL
) WITHOUT ROWID;

-- +goose Down
DROP TABLE visits;
DROP TABLE handovers;
