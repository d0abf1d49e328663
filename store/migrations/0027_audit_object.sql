-- +goose Up
-- What was done with one record is found without reading the whole log.
CREATE INDEX audit_object ON audit (object, seq);

-- +goose Down
DROP INDEX audit_object;
