-- +goose Up
-- TRUNCATE removes rows without asking the trigger of each.
-- +goose StatementBegin
CREATE FUNCTION audit_stays_whole() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'the audit trail is only added to';
END $$;
-- +goose StatementEnd
CREATE TRIGGER audit_stays_whole BEFORE TRUNCATE ON audit FOR EACH STATEMENT EXECUTE FUNCTION audit_stays_whole();

-- +goose Down
DROP TRIGGER audit_stays_whole ON audit;
DROP FUNCTION audit_stays_whole;
