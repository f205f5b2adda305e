-- +goose Up
ALTER TABLE zone ADD COLUMN kind text NOT NULL DEFAULT 'hosted',
    ADD COLUMN primary_at text NOT NULL DEFAULT '',      -- of a remote zone: its primary, "address:port"
    ADD COLUMN transport text NOT NULL DEFAULT '',
    ADD COLUMN primary_key text NOT NULL DEFAULT '',     -- TSIG key that the primary knows us by
    ADD COLUMN reassert_s int NOT NULL DEFAULT 0,
    ADD COLUMN pushing boolean NOT NULL DEFAULT false,
    ADD COLUMN also_ask jsonb NOT NULL DEFAULT '[]',     -- further authoritative servers, "address:port"
    ADD COLUMN template text NOT NULL DEFAULT '';        -- of a site's first name

-- What each remote primary last took of us, by name, and how it goes with what it should have now. A name that is no longer
-- wanted keeps its row until the primary has dropped it.
CREATE TABLE remote_name (
    zone_id  bigint NOT NULL REFERENCES zone ON DELETE CASCADE,
    name     text NOT NULL,
    given    jsonb NOT NULL DEFAULT '[]',
    given_at timestamptz,
    tries    int NOT NULL DEFAULT 0,           -- in vain, since the last that was taken
    since_at timestamptz,                      -- when the first of them was made
    problem  text NOT NULL DEFAULT '',
    detail   text NOT NULL DEFAULT '',
    PRIMARY KEY (zone_id, name)
);

-- When a move had reached a remote zone's primary. Hosted zones are published with the move itself.
CREATE TABLE move_zone (
    move_id      bigint NOT NULL REFERENCES move ON DELETE CASCADE,
    zone_id      bigint NOT NULL REFERENCES zone ON DELETE CASCADE,
    published_at timestamptz NOT NULL,
    PRIMARY KEY (move_id, zone_id)
);

-- +goose Down
DROP TABLE move_zone, remote_name;
ALTER TABLE zone DROP COLUMN kind, DROP COLUMN primary_at, DROP COLUMN transport, DROP COLUMN primary_key,
    DROP COLUMN reassert_s, DROP COLUMN pushing, DROP COLUMN also_ask, DROP COLUMN template;
