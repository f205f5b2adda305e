-- +goose Up
ALTER TABLE standing RENAME TO service_state;
ALTER TABLE sighting RENAME TO device_report;
ALTER TABLE link RENAME COLUMN standing TO report;
ALTER TABLE hostname RENAME COLUMN kept_by TO hold_by;
ALTER TABLE hostname RENAME COLUMN kept_ipv4 TO hold_ipv4;
ALTER TABLE hostname RENAME COLUMN kept_ipv6 TO hold_ipv6;
ALTER TABLE access_key RENAME COLUMN turn TO rotate;
UPDATE exposure_review SET doc = replace(doc::text, '"grave":', '"severe":')::jsonb WHERE doc::text LIKE '%"grave":%';

-- +goose Down
UPDATE exposure_review SET doc = replace(doc::text, '"severe":', '"grave":')::jsonb WHERE doc::text LIKE '%"severe":%';
ALTER TABLE access_key RENAME COLUMN rotate TO turn;
ALTER TABLE hostname RENAME COLUMN hold_ipv6 TO kept_ipv6;
ALTER TABLE hostname RENAME COLUMN hold_ipv4 TO kept_ipv4;
ALTER TABLE hostname RENAME COLUMN hold_by TO kept_by;
ALTER TABLE link RENAME COLUMN report TO standing;
ALTER TABLE device_report RENAME TO sighting;
ALTER TABLE service_state RENAME TO standing;
