-- +goose Up
CREATE TABLE person (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name          text NOT NULL UNIQUE,
    password_hash bytea NOT NULL,
    once          boolean NOT NULL DEFAULT false, -- the password must be replaced at the first sign-in
    created_at    timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE session (
    token_hash bytea PRIMARY KEY,
    person_id  bigint NOT NULL REFERENCES person ON DELETE CASCADE,
    csrf       text NOT NULL,
    expires_at timestamptz NOT NULL
);

CREATE TABLE site (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    code       text NOT NULL UNIQUE,
    name       text NOT NULL,
    note       text NOT NULL DEFAULT '',
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE link (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id       bigint NOT NULL REFERENCES site ON DELETE CASCADE,
    label         text NOT NULL,
    provider      text NOT NULL DEFAULT '',
    mode          text NOT NULL,
    position      int NOT NULL,
    ipv4          inet,
    ipv6          inet,
    source        text NOT NULL DEFAULT '',
    since_at      timestamptz,
    heard_at      timestamptz,
    UNIQUE (site_id, label)
);

CREATE TABLE access_key (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    hash       bytea NOT NULL UNIQUE,
    scope      text NOT NULL,
    label      text NOT NULL,
    person_id  bigint REFERENCES person ON DELETE CASCADE,
    link_id    bigint REFERENCES link ON DELETE CASCADE,
    created_at timestamptz NOT NULL DEFAULT now(),
    revoked_at timestamptz,
    CHECK ((scope = 'person' AND person_id IS NOT NULL) OR (scope = 'agent' AND link_id IS NOT NULL))
);
CREATE INDEX access_key_link ON access_key (link_id) WHERE link_id IS NOT NULL;

CREATE TABLE enrolment (
    code_hash  bytea PRIMARY KEY,
    link_id    bigint NOT NULL REFERENCES link ON DELETE CASCADE,
    expires_at timestamptz NOT NULL,
    used_at    timestamptz
);

CREATE TABLE zone (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    apex     text NOT NULL UNIQUE,
    contact  text NOT NULL,
    serial   bigint NOT NULL CHECK (serial BETWEEN 1 AND 4294967295),
    refresh  bigint NOT NULL,
    retry    bigint NOT NULL,
    expire   bigint NOT NULL,
    negative bigint NOT NULL,
    ttl      bigint NOT NULL,
    servers  jsonb NOT NULL
);

CREATE TABLE hostname (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    zone_id bigint NOT NULL REFERENCES zone ON DELETE RESTRICT,
    site_id bigint NOT NULL REFERENCES site ON DELETE CASCADE,
    link_id bigint REFERENCES link ON DELETE RESTRICT, -- null: the site's preferred link
    name    text NOT NULL UNIQUE,
    ttl     int NOT NULL
);
CREATE INDEX hostname_site ON hostname (site_id);

CREATE TABLE device (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id  bigint NOT NULL REFERENCES site ON DELETE CASCADE,
    name     text NOT NULL,
    mac      text NOT NULL DEFAULT '',
    address  inet NOT NULL,
    reserved boolean NOT NULL DEFAULT false,
    UNIQUE (site_id, name)
);

CREATE TABLE service (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id       bigint NOT NULL REFERENCES site ON DELETE CASCADE,
    device_id     bigint NOT NULL REFERENCES device ON DELETE RESTRICT,
    link_id       bigint REFERENCES link ON DELETE RESTRICT, -- null: the site's preferred link
    name          text NOT NULL,
    kind          text NOT NULL,
    transport     text NOT NULL,
    external_from int NOT NULL CHECK (external_from BETWEEN 1 AND 65535),
    external_to   int NOT NULL CHECK (external_to BETWEEN external_from AND 65535),
    internal_from int NOT NULL CHECK (internal_from BETWEEN 1 AND 65535),
    expected      text NOT NULL,
    interval_s    int NOT NULL,
    UNIQUE (site_id, name)
);

-- One row a WAN address change, kept for ever. Stages that did not happen (yet) are null.
CREATE TABLE move (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id      bigint NOT NULL REFERENCES site ON DELETE CASCADE,
    link_id      bigint NOT NULL REFERENCES link ON DELETE CASCADE,
    old_ipv4     inet,
    old_ipv6     inet,
    new_ipv4     inet,
    new_ipv6     inet,
    source       text NOT NULL,
    noticed_at   timestamptz NOT NULL,
    received_at  timestamptz NOT NULL,
    recorded_at  timestamptz,
    published_at timestamptz,
    answered_at  timestamptz,
    confirmed_at timestamptz
);
CREATE INDEX move_site ON move (site_id, id DESC);
CREATE INDEX move_link ON move (link_id, id DESC);

CREATE TABLE vantage (
    id   bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name text NOT NULL UNIQUE
);

-- Partitions by the month in which a span began; retention drops whole partitions.
CREATE TABLE span (
    service_id bigint NOT NULL,
    vantage_id bigint NOT NULL,
    from_at    timestamptz NOT NULL,
    until_at   timestamptz NOT NULL,
    outcome    text NOT NULL,
    count      bigint NOT NULL,
    timed      bigint NOT NULL,
    fastest_us bigint NOT NULL,
    total_us   bigint NOT NULL,
    slowest_us bigint NOT NULL,
    PRIMARY KEY (service_id, vantage_id, from_at)
) PARTITION BY RANGE (from_at);
CREATE TABLE span_other PARTITION OF span DEFAULT;

-- What the prober last concluded of each service, so that a restart begins where it stopped.
CREATE TABLE standing (
    service_id bigint PRIMARY KEY REFERENCES service ON DELETE CASCADE,
    state      text NOT NULL,
    since_at   timestamptz NOT NULL
);

CREATE TABLE fault (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id   bigint NOT NULL REFERENCES site ON DELETE CASCADE,
    key       text NOT NULL,
    finding   jsonb NOT NULL,
    opened_at timestamptz NOT NULL,
    closed_at timestamptz
);
CREATE UNIQUE INDEX fault_open ON fault (site_id, key) WHERE closed_at IS NULL;
CREATE INDEX fault_site ON fault (site_id, id DESC);

-- +goose Down
DROP TABLE fault, standing, span, vantage, move, service, device, hostname, zone, enrolment, access_key, link, site, session, person;
