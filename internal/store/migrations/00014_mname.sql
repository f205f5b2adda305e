-- +goose Up
-- The first field of the zone's SOA record (RFC 1035 section 3.3.13), where it is not the first of its servers.
ALTER TABLE zone ADD COLUMN mname text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE zone DROP COLUMN mname;
