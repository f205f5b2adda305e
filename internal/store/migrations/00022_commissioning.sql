-- +goose Up
-- A service that was never seen to be as expected is to be commissioned. What was watched before this was known counts as proven: its
-- faults were told, and go on.
ALTER TABLE service_state ADD COLUMN proven_at timestamptz;
UPDATE service_state SET proven_at = since_at WHERE state <> 'unknown';
ALTER TABLE service ADD COLUMN in_use boolean NOT NULL DEFAULT false;

-- A run through the steps by which services of a site come into use, at most one open a site; several people may be in it.
CREATE TABLE commissioning (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id bigint NOT NULL REFERENCES site ON DELETE CASCADE,
    began_at timestamptz NOT NULL,
    began_by text NOT NULL,
    ended_at timestamptz,
    ended_by text NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX commissioning_open ON commissioning (site_id) WHERE ended_at IS NULL;
CREATE INDEX commissioning_site ON commissioning (site_id, began_at DESC);

CREATE TABLE commissioning_service (
    run_id bigint NOT NULL REFERENCES commissioning ON DELETE CASCADE,
    service_id bigint NOT NULL REFERENCES service ON DELETE CASCADE,
    PRIMARY KEY (run_id, service_id)
);

-- How a step ended. of_id is the link, device or service that it is about, 0 for the site: whoever is first stays.
CREATE TABLE commissioning_result (
    run_id bigint NOT NULL REFERENCES commissioning ON DELETE CASCADE,
    of_id bigint NOT NULL,
    step text NOT NULL,
    state text NOT NULL CHECK (state IN ('done', 'skipped')),
    at timestamptz NOT NULL,
    person text NOT NULL, -- '' where it was seen to be so
    words text NOT NULL,
    PRIMARY KEY (run_id, of_id, step)
);

-- +goose Down
DROP TABLE commissioning_result, commissioning_service, commissioning;
ALTER TABLE service DROP COLUMN in_use;
ALTER TABLE service_state DROP COLUMN proven_at;
