-- +goose Up
-- A hostname that is kept stays at these addresses while its link moves, by an operator's or an announcement's wish.
ALTER TABLE hostname ADD COLUMN kept_by text NOT NULL DEFAULT '',
    ADD COLUMN kept_ipv4 inet,
    ADD COLUMN kept_ipv6 inet;

-- When the provider is expected to change the address: TTLs are lowered ahead of it.
ALTER TABLE link ADD COLUMN change_at timestamptz;

-- Names that send a browser on to a hostname with another port, scheme or path.
CREATE TABLE redirect (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    zone_id     bigint NOT NULL REFERENCES zone ON DELETE RESTRICT,
    hostname_id bigint NOT NULL REFERENCES hostname ON DELETE CASCADE,
    name        text NOT NULL UNIQUE,
    ttl         int NOT NULL,
    scheme      text NOT NULL,
    port        int NOT NULL CHECK (port BETWEEN 0 AND 65535), -- 0: the scheme's own
    path        text NOT NULL,
    keep_path   boolean NOT NULL,
    status      int NOT NULL
);

-- +goose Down
DROP TABLE redirect;
ALTER TABLE link DROP COLUMN change_at;
ALTER TABLE hostname DROP COLUMN kept_by, DROP COLUMN kept_ipv4, DROP COLUMN kept_ipv6;
