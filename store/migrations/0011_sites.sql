-- +goose Up
-- Routers with a site behind them are few among the devices.
CREATE INDEX devices_site ON devices (id) WHERE json_extract(body, '$.site') IS NOT NULL;

-- +goose Down
DROP INDEX devices_site;
