-- +goose Up
-- How fast gateways answered, and where that was measured.
CREATE TABLE answer_times (
    gateway_id   TEXT NOT NULL REFERENCES gateways ON DELETE CASCADE,
    person_id    TEXT REFERENCES people ON DELETE CASCADE, -- on whose page; NULL elsewhere
    source       TEXT NOT NULL CHECK (source IN ('probe', 'page', 'rehearsal')),
    place        TEXT NOT NULL,
    latitude     REAL,
    longitude    REAL,
    milliseconds REAL NOT NULL,
    at           INTEGER NOT NULL
);
CREATE INDEX answer_times_gateway ON answer_times (gateway_id, at DESC);
CREATE INDEX answer_times_person ON answer_times (person_id, gateway_id, at DESC) WHERE person_id IS NOT NULL;
CREATE INDEX answer_times_at ON answer_times (at);

CREATE INDEX profiles_fallback ON profiles (json_extract(body, '$.wishes.fallback_id')) WHERE json_extract(body, '$.wishes.fallback_id') IS NOT NULL;
CREATE INDEX profiles_second ON profiles (json_extract(body, '$.wishes.second_to')) WHERE json_extract(body, '$.wishes.second_to') IS NOT NULL;

-- +goose Down
DROP INDEX profiles_second;
DROP INDEX profiles_fallback;
DROP TABLE answer_times;
