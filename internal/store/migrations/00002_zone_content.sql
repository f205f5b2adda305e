-- +goose Up
ALTER TABLE zone ADD COLUMN transfer_to jsonb NOT NULL DEFAULT '[]', -- prefixes that may have the whole zone
    ADD COLUMN transfer_key text NOT NULL DEFAULT '',                -- TSIG key whose holders may have it
    ADD COLUMN notify jsonb NOT NULL DEFAULT '[]';                   -- secondaries to tell of changes, "address:port"
ALTER TABLE hostname ADD COLUMN extras jsonb NOT NULL DEFAULT '[]',  -- labels below the hostname with the same addresses
    ADD COLUMN mail text NOT NULL DEFAULT '';                        -- host that takes its mail

CREATE TABLE alias (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    zone_id     bigint NOT NULL REFERENCES zone ON DELETE RESTRICT,
    hostname_id bigint NOT NULL REFERENCES hostname ON DELETE CASCADE,
    name        text NOT NULL UNIQUE,
    ttl         int NOT NULL
);
CREATE INDEX alias_hostname ON alias (hostname_id);

CREATE TABLE zone_record (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    zone_id bigint NOT NULL REFERENCES zone ON DELETE CASCADE,
    name    text NOT NULL,
    type    text NOT NULL,
    ttl     int NOT NULL,
    data    text NOT NULL,
    UNIQUE (zone_id, name, type, data)
);

-- TSIG keys are shared secrets (RFC 8945): unlike access keys they cannot be kept as hashes.
CREATE TABLE signing_key (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    algorithm  text NOT NULL,
    secret     text NOT NULL,
    site_id    bigint REFERENCES site ON DELETE CASCADE, -- null: for zone transfer; else for updates of that site's names
    created_at timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE signing_key, zone_record, alias;
ALTER TABLE hostname DROP COLUMN extras, DROP COLUMN mail;
ALTER TABLE zone DROP COLUMN transfer_to, DROP COLUMN transfer_key, DROP COLUMN notify;
