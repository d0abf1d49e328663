-- +goose Up
-- Keyed digests of secrets that were replaced, a few of each, to tell an old file from a wrong one.
CREATE TABLE former (
    owner TEXT NOT NULL,
    field TEXT NOT NULL,
    mark  BLOB NOT NULL,
    until INTEGER NOT NULL,
    PRIMARY KEY (owner, field, mark)
) WITHOUT ROWID;
-- +goose StatementBegin
CREATE TRIGGER secrets_former AFTER UPDATE OF mark ON secrets
WHEN OLD.mark IS NOT NULL AND OLD.mark IS NOT NEW.mark BEGIN
    INSERT INTO former (owner, field, mark, until) VALUES (OLD.owner, OLD.field, OLD.mark, NEW.changed)
        ON CONFLICT DO UPDATE SET until = excluded.until;
    DELETE FROM former WHERE owner = OLD.owner AND field = OLD.field AND mark NOT IN (
        SELECT mark FROM former WHERE owner = OLD.owner AND field = OLD.field ORDER BY until DESC LIMIT 5);
END;
-- +goose StatementEnd

-- +goose Down
DROP TRIGGER secrets_former;
DROP TABLE former;
