-- +goose Up
ALTER TABLE operators ADD COLUMN disabled INTEGER NOT NULL DEFAULT 0;
ALTER TABLE operators ADD COLUMN must_change INTEGER NOT NULL DEFAULT 0; -- its password is somebody else's choice
ALTER TABLE operators ADD COLUMN factor INTEGER NOT NULL DEFAULT 0; -- a second factor is asked for; its key is among the sealed secrets
ALTER TABLE operators ADD COLUMN factor_step INTEGER NOT NULL DEFAULT 0; -- the last step whose code was taken
ALTER TABLE operators ADD COLUMN signed_in INTEGER; -- when last

ALTER TABLE sessions ADD COLUMN id TEXT NOT NULL DEFAULT '';
ALTER TABLE sessions ADD COLUMN name TEXT NOT NULL DEFAULT ''; -- of a token
ALTER TABLE sessions ADD COLUMN role TEXT NOT NULL DEFAULT ''; -- that a token is held to; empty: the operator's
ALTER TABLE sessions ADD COLUMN origin TEXT NOT NULL DEFAULT ''; -- the address that it was opened from
ALTER TABLE sessions ADD COLUMN used INTEGER;
UPDATE sessions SET id = 'se-' || lower(hex(randomblob(8)));
CREATE INDEX sessions_operator ON sessions (operator_id);

-- Each line of the audit log is chained to the one before it by a keyed digest. The trigger that keeps its
-- words comes back once the lines that are there are chained.
DROP TRIGGER audit_keeps_words;
ALTER TABLE audit ADD COLUMN chain BLOB;

-- +goose Down
ALTER TABLE audit DROP COLUMN chain;
DROP INDEX sessions_operator;
ALTER TABLE sessions DROP COLUMN used;
ALTER TABLE sessions DROP COLUMN origin;
ALTER TABLE sessions DROP COLUMN role;
ALTER TABLE sessions DROP COLUMN name;
ALTER TABLE sessions DROP COLUMN id;
ALTER TABLE operators DROP COLUMN signed_in;
ALTER TABLE operators DROP COLUMN factor_step;
ALTER TABLE operators DROP COLUMN factor;
ALTER TABLE operators DROP COLUMN must_change;
ALTER TABLE operators DROP COLUMN disabled;
