-- +goose Up
-- Rows that say who may do what carry a keyed digest: whoever can write the database, and has
-- no master key, cannot make one that counts.
ALTER TABLE operators ADD COLUMN proof BLOB;
ALTER TABLE sessions ADD COLUMN proof BLOB;
ALTER TABLE sessions ADD COLUMN client TEXT NOT NULL DEFAULT '';    -- how the program calls itself
ALTER TABLE sessions ADD COLUMN addresses TEXT NOT NULL DEFAULT ''; -- networks that a token is bound to
ALTER TABLE sessions ADD COLUMN confirmed INTEGER NOT NULL DEFAULT 0;
ALTER TABLE handovers ADD COLUMN proof BLOB;
ALTER TABLE visits ADD COLUMN proof BLOB;

-- How many lines the audit log has, and its last link.
CREATE TABLE audit_head (
    only  INTEGER PRIMARY KEY CHECK (only = 1),
    lines INTEGER NOT NULL,
    chain BLOB NOT NULL,
    proof BLOB NOT NULL
);

-- +goose Down
DROP TABLE audit_head;
ALTER TABLE visits DROP COLUMN proof;
ALTER TABLE handovers DROP COLUMN proof;
ALTER TABLE sessions DROP COLUMN confirmed;
ALTER TABLE sessions DROP COLUMN addresses;
ALTER TABLE sessions DROP COLUMN client;
ALTER TABLE sessions DROP COLUMN proof;
ALTER TABLE operators DROP COLUMN proof;
