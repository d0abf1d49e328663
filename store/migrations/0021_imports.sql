-- +goose Up
-- Tables of records that were imported, or are shown before they are.
CREATE TABLE imports (
    id       TEXT PRIMARY KEY,
    created  INTEGER NOT NULL,
    operator TEXT NOT NULL,
    file     TEXT NOT NULL,
    noun     TEXT NOT NULL,
    state    TEXT NOT NULL,
    body     TEXT NOT NULL -- the rest, as JSON
) WITHOUT ROWID;
CREATE INDEX imports_created ON imports (created DESC, id);

-- Their rows; a password is sealed, below import:ID and the number of the row.
CREATE TABLE import_rows (
    id        INTEGER PRIMARY KEY,
    import_id TEXT NOT NULL REFERENCES imports ON DELETE CASCADE,
    number    INTEGER NOT NULL,
    outcome   TEXT NOT NULL,
    title     TEXT NOT NULL,
    body      TEXT NOT NULL, -- line, changes and problems, as JSON
    cells     TEXT NOT NULL, -- by field, as JSON
    undo      TEXT NOT NULL DEFAULT '', -- what was done, as JSON
    UNIQUE (import_id, number)
);
CREATE INDEX import_rows_outcome ON import_rows (import_id, outcome, number);

-- How columns were mapped the last time.
CREATE TABLE import_mappings (
    noun    TEXT NOT NULL,
    columns TEXT NOT NULL,
    body    TEXT NOT NULL,
    PRIMARY KEY (noun, columns)
) WITHOUT ROWID;

CREATE INDEX people_alike ON people (lower(name));
CREATE INDEX people_mail_alike ON people (lower(mail));

-- +goose Down
DROP INDEX people_mail_alike;
DROP INDEX people_alike;
DROP TABLE import_mappings;
DROP TABLE import_rows;
DROP TABLE imports;
