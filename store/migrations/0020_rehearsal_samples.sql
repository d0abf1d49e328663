-- +goose Up
-- Profiles of a sample that are still to be rehearsed, or whose rehearsal has begun.
CREATE TABLE rehearsal_samples (
    job_id       TEXT NOT NULL REFERENCES jobs ON DELETE CASCADE,
    profile_id   TEXT NOT NULL REFERENCES profiles ON DELETE CASCADE,
    protocol     TEXT NOT NULL, -- of an offer of the gateway; empty: that of the newest parcel
    rehearsal_id TEXT NOT NULL DEFAULT '', -- empty: not begun
    PRIMARY KEY (job_id, profile_id, protocol)
) WITHOUT ROWID;
CREATE INDEX rehearsal_samples_profile ON rehearsal_samples (profile_id);
CREATE INDEX rehearsal_samples_rehearsal ON rehearsal_samples (rehearsal_id);

-- When the schedule of a gateway last came due.
CREATE TABLE rehearsal_schedules (
    gateway_id TEXT PRIMARY KEY REFERENCES gateways ON DELETE CASCADE,
    followed   INTEGER NOT NULL
) WITHOUT ROWID;

CREATE INDEX rehearsal_cells_platform ON rehearsal_cells (platform);

-- +goose Down
DROP INDEX rehearsal_cells_platform;
DROP TABLE rehearsal_schedules;
DROP TABLE rehearsal_samples;
