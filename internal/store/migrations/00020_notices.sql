-- +goose Up
ALTER TABLE fault ADD COLUMN turned_at timestamptz; -- when it last opened, changed, came back or closed
ALTER TABLE person ADD COLUMN mail text NOT NULL DEFAULT '', ADD COLUMN zone text NOT NULL DEFAULT '';

-- What this installation is called in the IDs of its messages.
CREATE TABLE installation (name text NOT NULL);
INSERT INTO installation VALUES (substr(md5(random()::text || clock_timestamp()::text), 1, 12));

CREATE TABLE hook (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    url        text NOT NULL,
    secret     text NOT NULL, -- seals what is sent: it has to be known, and is shown once
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE notice_rule (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    person_id  bigint REFERENCES person ON DELETE CASCADE,
    hook_id    bigint REFERENCES hook ON DELETE CASCADE,
    rule       jsonb NOT NULL,
    created_at timestamptz NOT NULL,
    CHECK ((person_id IS NULL) <> (hook_id IS NULL))
);

-- One message to one recipient, and what it tells. Whatever has a key is told to a recipient once.
CREATE TABLE notice (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    recipient  text NOT NULL,
    content    jsonb NOT NULL,
    decided_at timestamptz NOT NULL
);
CREATE INDEX notice_decided ON notice (decided_at);
CREATE TABLE notice_item (
    notice_id bigint NOT NULL REFERENCES notice ON DELETE CASCADE,
    recipient text NOT NULL,
    key       text NOT NULL,
    item      jsonb NOT NULL,
    PRIMARY KEY (recipient, key)
);
CREATE INDEX notice_item_of ON notice_item (notice_id);

-- The way of a notice to its recipient: one row a way, with what was tried.
CREATE TABLE delivery (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    notice_id bigint NOT NULL REFERENCES notice ON DELETE CASCADE,
    way       text NOT NULL,
    state     text NOT NULL DEFAULT 'waiting', -- sent, or failed: given up
    tries     integer NOT NULL DEFAULT 0,
    since_at  timestamptz NOT NULL, -- when it was written, or sent on its way again
    done_at   timestamptz,
    target    text NOT NULL DEFAULT '',
    problem   text NOT NULL DEFAULT ''
);
CREATE INDEX delivery_waiting ON delivery (id) WHERE state = 'waiting';
CREATE INDEX delivery_of ON delivery (notice_id);

-- +goose Down
DROP TABLE delivery, notice_item, notice, notice_rule, hook, installation;
ALTER TABLE person DROP COLUMN mail, DROP COLUMN zone;
ALTER TABLE fault DROP COLUMN turned_at;
