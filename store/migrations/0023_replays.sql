-- +goose Up
-- Answers to requests that carry an Idempotency-Key, for a day.
CREATE TABLE replays (
    operator TEXT NOT NULL,
    key      TEXT NOT NULL,
    request  TEXT NOT NULL, -- keyed digest of method, path and body
    created  INTEGER NOT NULL,
    status   INTEGER, -- none while it is being answered
    sealed   BLOB, -- header and body: an answer may hold a secret
    PRIMARY KEY (operator, key)
) WITHOUT ROWID;
CREATE INDEX replays_created ON replays (created);

-- +goose Down
DROP TABLE replays;
