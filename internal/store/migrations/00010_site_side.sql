-- +goose Up
ALTER TABLE link ADD COLUMN router_address inet,             -- the router's WAN address, where no protocol tells it
    ADD COLUMN sources jsonb NOT NULL DEFAULT '[]',        -- the sources of its address, the most trusted first; empty: the usual
    ADD COLUMN standing jsonb;                               -- what its agent reported last

-- What an agent saw of a device on its LAN, the newest only.
CREATE TABLE sighting (
    device_id bigint PRIMARY KEY REFERENCES device ON DELETE CASCADE,
    link_id   bigint NOT NULL REFERENCES link ON DELETE CASCADE,
    seen_at   timestamptz NOT NULL,
    doc       jsonb NOT NULL
);

-- +goose Down
DROP TABLE sighting;
ALTER TABLE link DROP COLUMN router_address, DROP COLUMN sources, DROP COLUMN standing;
