-- +goose Up
ALTER TABLE site ADD COLUMN tags jsonb NOT NULL DEFAULT '[]';

-- A fault has a life: its diagnosis may change, it may come back, people take it up. One without a site is of an area: a provider.
DROP INDEX fault_open;
ALTER TABLE fault ALTER COLUMN site_id DROP NOT NULL,
    ADD COLUMN under bigint REFERENCES fault ON DELETE SET NULL, -- the fault of an area that explains this one
    ADD COLUMN began_at timestamptz,                             -- the first sign of it
    ADD COLUMN returns integer NOT NULL DEFAULT 0,               -- how often it came back
    ADD COLUMN acknowledged_at timestamptz, ADD COLUMN acknowledged_by text,
    ADD COLUMN assigned text;
CREATE INDEX fault_is_open ON fault (site_id) WHERE closed_at IS NULL;
CREATE INDEX fault_closed ON fault (closed_at) WHERE closed_at IS NOT NULL;
CREATE INDEX fault_under ON fault (under) WHERE under IS NOT NULL;

-- The timeline of a fault. doer is the person who did it, empty where Ink Post did.
CREATE TABLE fault_event (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    fault_id bigint NOT NULL REFERENCES fault ON DELETE CASCADE,
    at       timestamptz NOT NULL,
    kind     text NOT NULL,
    doer     text NOT NULL DEFAULT '',
    words    text NOT NULL
);
CREATE UNIQUE INDEX fault_event_once ON fault_event (fault_id, at, kind, doer); -- a write that is tried again adds nothing

CREATE TABLE planned_work (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id  bigint REFERENCES site ON DELETE CASCADE,
    tag      text NOT NULL DEFAULT '',
    provider text NOT NULL DEFAULT '',
    starts   timestamptz NOT NULL,
    minutes  integer NOT NULL,
    zone     text NOT NULL,
    repeats  text NOT NULL,
    last_at  timestamptz,
    reason   text NOT NULL DEFAULT '',
    planner  text NOT NULL DEFAULT '',
    fault_id bigint REFERENCES fault ON DELETE SET NULL
);

-- +goose Down
DROP TABLE planned_work, fault_event;
DELETE FROM fault WHERE site_id IS NULL;
DROP INDEX fault_under, fault_closed, fault_is_open;
ALTER TABLE fault ALTER COLUMN site_id SET NOT NULL, DROP COLUMN under, DROP COLUMN began_at, DROP COLUMN returns,
    DROP COLUMN acknowledged_at, DROP COLUMN acknowledged_by, DROP COLUMN assigned;
CREATE UNIQUE INDEX fault_open ON fault (site_id, key) WHERE closed_at IS NULL;
ALTER TABLE site DROP COLUMN tags;
