-- +goose Up
-- Where rehearsals come from, and by which protocol and platform they were.
ALTER TABLE rehearsals ADD COLUMN protocol TEXT NOT NULL DEFAULT '';
ALTER TABLE rehearsals ADD COLUMN platform TEXT NOT NULL DEFAULT '';
ALTER TABLE rehearsals ADD COLUMN place    TEXT NOT NULL DEFAULT ''; -- empty: the service
UPDATE rehearsals SET protocol = json_extract(body, '$.protocol'),
    platform = COALESCE((SELECT platform FROM profiles p WHERE p.id = profile_id), '');

-- The last of each profile, so that a list of those looks at no others.
ALTER TABLE rehearsals ADD COLUMN latest INTEGER NOT NULL DEFAULT 0;
UPDATE rehearsals SET latest = 1 WHERE id = (SELECT id FROM rehearsals n
    WHERE n.profile_id = rehearsals.profile_id ORDER BY at DESC, rowid DESC LIMIT 1);
CREATE INDEX rehearsals_latest ON rehearsals (latest, at DESC);

-- The last rehearsal of each gateway, protocol and platform that came to an end.
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
CREATE INDEX rehearsal_cells_profile ON rehearsal_cells (profile_id);

-- +goose Down
DROP TABLE rehearsal_cells;
DROP INDEX rehearsals_latest;
ALTER TABLE rehearsals DROP COLUMN latest;
ALTER TABLE rehearsals DROP COLUMN protocol;
ALTER TABLE rehearsals DROP COLUMN platform;
ALTER TABLE rehearsals DROP COLUMN place;
