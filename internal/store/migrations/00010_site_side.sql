-- +goose Up
ALTER TABLE link ADD COLUMN router_address inet,             -- the router's WAN address, where no protocol tells it
    ADD COLUMN sources jsonb NOT NULL DEFAULT '[]',        -- the sources of its address, the most trusted first; empty: the usual
    ADD COLUMN dynamic_from inet, ADD COLUMN dynamic_to inet, -- the LAN addresses that its router gives out
    ADD COLUMN standing jsonb;                               -- what its agent reported last

-- What an agent saw of a device on its LAN, the newest only.
CREATE TABLE sighting (
    device_id bigint PRIMARY KEY REFERENCES device ON DELETE CASCADE,
    link_id   bigint NOT NULL REFERENCES link ON DELETE CASCADE,
    seen_at   timestamptz NOT NULL,
    doc       jsonb NOT NULL
);

-- The device's current global IPv6 address, as an agent sees it; a hostname that names a device has it as its AAAA.
ALTER TABLE device ADD COLUMN ipv6 inet;
ALTER TABLE hostname ADD COLUMN device_id bigint REFERENCES device ON DELETE RESTRICT;
-- A key that takes the place of another, which is revoked when the new one is used first; turn asks for that.
ALTER TABLE access_key ADD COLUMN replaces bigint REFERENCES access_key ON DELETE SET NULL, ADD COLUMN turn boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE access_key DROP COLUMN replaces, DROP COLUMN turn;
ALTER TABLE hostname DROP COLUMN device_id;
ALTER TABLE device DROP COLUMN ipv6;
DROP TABLE sighting;
ALTER TABLE link DROP COLUMN router_address, DROP COLUMN sources, DROP COLUMN dynamic_from, DROP COLUMN dynamic_to, DROP COLUMN standing;
