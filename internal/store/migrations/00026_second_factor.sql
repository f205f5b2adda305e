-- +goose Up
-- Second factors: codes of an authenticator (RFC 6238) with codes for when it is lost, and passkeys (WebAuthn).
ALTER TABLE person ADD COLUMN totp_secret text NOT NULL DEFAULT '', ADD COLUMN totp_step bigint NOT NULL DEFAULT 0,
    ADD COLUMN handle bytea; -- by which an authenticator knows them
CREATE TABLE recovery_code (
    person_id bigint NOT NULL REFERENCES person ON DELETE CASCADE,
    code_hash bytea NOT NULL,
    PRIMARY KEY (person_id, code_hash)
);
CREATE TABLE passkey (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    person_id bigint NOT NULL REFERENCES person ON DELETE CASCADE,
    credential_id bytea NOT NULL UNIQUE,
    credential jsonb NOT NULL,
    label text NOT NULL,
    created_at timestamptz NOT NULL,
    used_at timestamptz
);
CREATE INDEX passkey_person ON passkey (person_id);
-- Whether owners have to have one.
ALTER TABLE installation ADD COLUMN owners_second boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE installation DROP COLUMN owners_second;
DROP TABLE passkey;
DROP TABLE recovery_code;
ALTER TABLE person DROP COLUMN totp_secret, DROP COLUMN totp_step, DROP COLUMN handle;
