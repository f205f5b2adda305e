-- +goose Up
-- Who may do what: an owner, a technician, a viewer, each perhaps limited to the sites with some tags. Everybody so far could do
-- everything.
ALTER TABLE person ADD COLUMN role text NOT NULL DEFAULT 'owner' CHECK (role IN ('owner', 'technician', 'viewer')),
    ADD COLUMN tags jsonb NOT NULL DEFAULT '[]';
ALTER TABLE person ALTER COLUMN role DROP DEFAULT;
CREATE TABLE invitation (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    code_hash bytea NOT NULL UNIQUE,
    name text NOT NULL,
    role text NOT NULL,
    tags jsonb NOT NULL,
    person text NOT NULL, -- who invited
    created_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL
);

-- What a key of a person is made for.
ALTER TABLE access_key ADD COLUMN may text NOT NULL DEFAULT 'edit' CHECK (may IN ('read', 'probe', 'edit'));

-- Where and by what a session is used.
ALTER TABLE session ADD COLUMN id bigint GENERATED ALWAYS AS IDENTITY UNIQUE, ADD COLUMN opened_at timestamptz NOT NULL DEFAULT now(),
    ADD COLUMN seen_at timestamptz NOT NULL DEFAULT now(), ADD COLUMN address inet, ADD COLUMN program text NOT NULL DEFAULT '';

-- Who did what. A row is written before the change is made, and its result after it; nothing else may change it, and only retention may
-- remove it.
CREATE TABLE audit (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at timestamptz NOT NULL,
    person text NOT NULL,
    by_key text NOT NULL,
    address inet,
    kind text NOT NULL,
    words text NOT NULL,
    site_id bigint,
    site text NOT NULL,
    subject text NOT NULL,
    before jsonb,
    status integer,
    after jsonb
);
CREATE INDEX audit_at ON audit (at);
CREATE INDEX audit_site ON audit (site_id, id) WHERE site_id IS NOT NULL;
CREATE INDEX audit_person ON audit (person, id);
-- +goose StatementBegin
CREATE FUNCTION audit_stays() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'UPDATE' AND OLD.status IS NULL AND NEW.status IS NOT NULL AND (OLD.at, OLD.person, OLD.by_key, OLD.kind, OLD.words,
        OLD.subject, OLD.address) IS NOT DISTINCT FROM (NEW.at, NEW.person, NEW.by_key, NEW.kind, NEW.words, NEW.subject, NEW.address)
        AND (OLD.site = '' OR (OLD.site, OLD.site_id) IS NOT DISTINCT FROM (NEW.site, NEW.site_id)) THEN
        RETURN NEW;
    END IF;
    IF TG_OP = 'DELETE' AND current_setting('inkpost.retention', true) = 'on' THEN
        RETURN OLD;
    END IF;
    RAISE EXCEPTION 'the audit trail is only added to';
END $$;
-- +goose StatementEnd
CREATE TRIGGER audit_stays BEFORE UPDATE OR DELETE ON audit FOR EACH ROW EXECUTE FUNCTION audit_stays();

-- +goose Down
DROP TABLE audit;
DROP FUNCTION audit_stays();
ALTER TABLE session DROP COLUMN id, DROP COLUMN opened_at, DROP COLUMN seen_at, DROP COLUMN address, DROP COLUMN program;
ALTER TABLE access_key DROP COLUMN may;
DROP TABLE invitation;
ALTER TABLE person DROP COLUMN role, DROP COLUMN tags;
