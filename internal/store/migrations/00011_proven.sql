-- +goose Up
ALTER TABLE service ADD COLUMN options jsonb NOT NULL DEFAULT '{}', -- what a probe asks and expects beyond the kind
    ADD COLUMN open_until  timestamptz,                            -- after that it is expected closed
    ADD COLUMN fingerprint text NOT NULL DEFAULT '',
    ADD COLUMN pinned_at   timestamptz,
    ADD COLUMN pinned_by   text NOT NULL DEFAULT '',
    ADD COLUMN probe_key   text NOT NULL DEFAULT '';               -- private key with which a WireGuard server knows us
ALTER TABLE device ADD COLUMN router boolean NOT NULL DEFAULT false;

ALTER TABLE vantage ADD COLUMN note text NOT NULL DEFAULT '',
    ADD COLUMN enrolled_at timestamptz,
    ADD COLUMN heard_at    timestamptz,
    ADD COLUMN doc         jsonb NOT NULL DEFAULT '{}';            -- what it last said of itself

ALTER TABLE access_key ADD COLUMN vantage_id bigint REFERENCES vantage ON DELETE CASCADE;
ALTER TABLE access_key DROP CONSTRAINT access_key_check;
ALTER TABLE access_key ADD CONSTRAINT access_key_check CHECK ((scope = 'person' AND person_id IS NOT NULL)
    OR (scope IN ('agent', 'router') AND link_id IS NOT NULL) OR (scope = 'vantage' AND vantage_id IS NOT NULL));
ALTER TABLE enrolment ALTER COLUMN link_id DROP NOT NULL;
ALTER TABLE enrolment ADD COLUMN vantage_id bigint REFERENCES vantage ON DELETE CASCADE;

-- The hourly rollups of one service and day, packed; partitions by month.
CREATE TABLE rollup (
    service_id bigint NOT NULL,
    day        date NOT NULL,
    hours      bytea NOT NULL,
    latency    bytea NOT NULL,
    PRIMARY KEY (service_id, day)
) PARTITION BY RANGE (day);
CREATE TABLE rollup_other PARTITION OF rollup DEFAULT;
-- The day under way, which is written again and again: it stands apart, so that days that are over are written once.
CREATE TABLE rollup_today (
    service_id bigint PRIMARY KEY,
    day        date NOT NULL,
    hours      bytea NOT NULL,
    latency    bytea NOT NULL
) WITH (fillfactor = 40);

-- A look at a site's own address for doors that are commonly left open, with the consent that it was made on.
CREATE TABLE exposure_review (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id    bigint NOT NULL REFERENCES site ON DELETE CASCADE,
    person     text NOT NULL,
    consent    text NOT NULL,
    started_at timestamptz NOT NULL,
    ended_at   timestamptz,
    doc        jsonb NOT NULL DEFAULT '{}'
);
CREATE INDEX exposure_review_site ON exposure_review (site_id, id DESC);

-- +goose Down
DROP TABLE exposure_review, rollup, rollup_today;
DELETE FROM enrolment WHERE link_id IS NULL;
ALTER TABLE enrolment DROP COLUMN vantage_id;
ALTER TABLE enrolment ALTER COLUMN link_id SET NOT NULL;
DELETE FROM access_key WHERE scope = 'vantage';
ALTER TABLE access_key DROP CONSTRAINT access_key_check;
ALTER TABLE access_key DROP COLUMN vantage_id;
ALTER TABLE access_key ADD CONSTRAINT access_key_check
    CHECK ((scope = 'person' AND person_id IS NOT NULL) OR (scope IN ('agent', 'router') AND link_id IS NOT NULL));
ALTER TABLE vantage DROP COLUMN note, DROP COLUMN enrolled_at, DROP COLUMN heard_at, DROP COLUMN doc;
ALTER TABLE device DROP COLUMN router;
ALTER TABLE service DROP COLUMN options, DROP COLUMN open_until, DROP COLUMN fingerprint, DROP COLUMN pinned_at, DROP COLUMN pinned_by, DROP COLUMN probe_key;
