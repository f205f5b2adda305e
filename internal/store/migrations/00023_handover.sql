-- +goose Up
-- What is kept of a site for the next visit, and for whoever takes it over.
ALTER TABLE site ADD COLUMN router text NOT NULL DEFAULT '';
ALTER TABLE link ADD COLUMN contract text NOT NULL DEFAULT '';

CREATE TABLE site_contact (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id bigint NOT NULL REFERENCES site ON DELETE CASCADE,
    role text NOT NULL CHECK (role IN ('customer', 'provider', 'key holder', 'other')),
    name text NOT NULL,
    phone text NOT NULL DEFAULT '',
    mail text NOT NULL DEFAULT '',
    note text NOT NULL DEFAULT '',
    revision bigint NOT NULL DEFAULT 1
);
CREATE INDEX site_contact_site ON site_contact (site_id);

CREATE TABLE site_note (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id bigint NOT NULL REFERENCES site ON DELETE CASCADE,
    at timestamptz NOT NULL,
    person text NOT NULL,
    words text NOT NULL
);
CREATE INDEX site_note_site ON site_note (site_id, at DESC);

CREATE TABLE site_photo (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id bigint NOT NULL REFERENCES site ON DELETE CASCADE,
    at timestamptz NOT NULL,
    person text NOT NULL,
    caption text NOT NULL,
    kind text NOT NULL CHECK (kind IN ('image/jpeg', 'image/png')),
    width int NOT NULL,
    height int NOT NULL,
    image bytea NOT NULL
);
CREATE INDEX site_photo_site ON site_photo (site_id, at DESC);

-- A version of the sheet is kept at each hand-over.
CREATE TABLE sheet (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id bigint NOT NULL REFERENCES site ON DELETE CASCADE,
    version int NOT NULL,
    at timestamptz NOT NULL,
    person text NOT NULL,
    reason text NOT NULL,
    doc jsonb NOT NULL,
    UNIQUE (site_id, version)
);

-- A customer reads the sheet by a secret URL, and nothing else. Only the hash of the secret is kept.
CREATE TABLE sheet_link (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id bigint NOT NULL REFERENCES site ON DELETE CASCADE,
    whose text NOT NULL,
    hash bytea NOT NULL UNIQUE,
    created_at timestamptz NOT NULL,
    created_by text NOT NULL,
    expires_at timestamptz NOT NULL,
    revoked_at timestamptz,
    used_at timestamptz
);
CREATE INDEX sheet_link_site ON sheet_link (site_id);

-- Kits that somebody made here, as their files have them; and what a device was put on record by, for the steps of its set-up.
CREATE TABLE kit (
    name text PRIMARY KEY,
    doc jsonb NOT NULL,
    at timestamptz NOT NULL,
    person text NOT NULL
);
ALTER TABLE device ADD COLUMN kit text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE device DROP COLUMN kit;
DROP TABLE kit, sheet_link, sheet, site_photo, site_note, site_contact;
ALTER TABLE link DROP COLUMN contract;
ALTER TABLE site DROP COLUMN router;
