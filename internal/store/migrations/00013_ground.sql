-- +goose Up
-- The revision of a row goes up with every edit: an edit that was made on an older one is refused.
ALTER TABLE site     ADD COLUMN revision bigint NOT NULL DEFAULT 1;
ALTER TABLE link     ADD COLUMN revision bigint NOT NULL DEFAULT 1,
    ADD COLUMN failing boolean NOT NULL DEFAULT false; -- nothing comes through: what follows the preferred link uses the next
ALTER TABLE device   ADD COLUMN revision bigint NOT NULL DEFAULT 1;
ALTER TABLE service  ADD COLUMN revision bigint NOT NULL DEFAULT 1;
ALTER TABLE hostname ADD COLUMN revision bigint NOT NULL DEFAULT 1;
ALTER TABLE zone     ADD COLUMN revision bigint NOT NULL DEFAULT 1;
ALTER TABLE alias    ADD COLUMN revision bigint NOT NULL DEFAULT 1;
ALTER TABLE redirect ADD COLUMN revision bigint NOT NULL DEFAULT 1;

-- Who made which revision, and what changed with it.
CREATE TABLE edit (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    kind     text NOT NULL,
    ref      bigint NOT NULL,
    revision bigint NOT NULL,
    person   text NOT NULL,
    at       timestamptz NOT NULL,
    changes  jsonb NOT NULL
);
CREATE INDEX edit_of ON edit (kind, ref, revision);

-- The one server that writes. Whoever takes over raises the epoch, and whatever an earlier writer still sends is refused.
CREATE TABLE writer (
    one      boolean PRIMARY KEY DEFAULT true CHECK (one),
    epoch    bigint NOT NULL,
    server   text NOT NULL DEFAULT '',
    since_at timestamptz
);
INSERT INTO writer (epoch) VALUES (1);

-- Keys and one-time passwords expire; a link's key may be allowed to announce addresses that are not its own connection's.
ALTER TABLE access_key ADD COLUMN expires_at timestamptz,
    ADD COLUMN used_at timestamptz,
    ADD COLUMN may_announce jsonb NOT NULL DEFAULT '[]';
ALTER TABLE signing_key ADD COLUMN may_announce jsonb NOT NULL DEFAULT '[]';
ALTER TABLE enrolment ADD COLUMN may_announce jsonb NOT NULL DEFAULT '[]';
ALTER TABLE person ADD COLUMN once_until timestamptz;
UPDATE person SET once_until = now() + interval '7 days' WHERE once;

-- What a foreign key points at is looked for from there when it goes.
CREATE INDEX hostname_link ON hostname (link_id);
CREATE INDEX hostname_zone ON hostname (zone_id);
CREATE INDEX hostname_device ON hostname (device_id);
CREATE INDEX service_device ON service (device_id);
CREATE INDEX service_link ON service (link_id);
CREATE INDEX alias_zone ON alias (zone_id);
CREATE INDEX redirect_hostname ON redirect (hostname_id);
CREATE INDEX redirect_zone ON redirect (zone_id);
CREATE INDEX sighting_link ON sighting (link_id);

-- +goose Down
DROP INDEX hostname_link, hostname_zone, hostname_device, service_device, service_link, alias_zone, redirect_hostname, redirect_zone, sighting_link;
ALTER TABLE person DROP COLUMN once_until;
ALTER TABLE enrolment DROP COLUMN may_announce;
ALTER TABLE signing_key DROP COLUMN may_announce;
ALTER TABLE access_key DROP COLUMN expires_at, DROP COLUMN used_at, DROP COLUMN may_announce;
DROP TABLE writer, edit;
ALTER TABLE redirect DROP COLUMN revision;
ALTER TABLE alias DROP COLUMN revision;
ALTER TABLE zone DROP COLUMN revision;
ALTER TABLE hostname DROP COLUMN revision;
ALTER TABLE service DROP COLUMN revision;
ALTER TABLE device DROP COLUMN revision;
ALTER TABLE link DROP COLUMN revision, DROP COLUMN failing;
ALTER TABLE site DROP COLUMN revision;
