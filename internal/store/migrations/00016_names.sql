-- +goose Up
ALTER TABLE standing RENAME TO service_state;
ALTER TABLE sighting RENAME TO device_report;
ALTER TABLE link RENAME COLUMN standing TO report;

-- +goose Down
ALTER TABLE link RENAME COLUMN report TO standing;
ALTER TABLE device_report RENAME TO sighting;
ALTER TABLE service_state RENAME TO standing;
