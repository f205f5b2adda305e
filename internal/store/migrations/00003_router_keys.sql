-- +goose Up
-- A router that announces by itself has a key of its own scope: nobody expects it to check in like an agent.
ALTER TABLE access_key DROP CONSTRAINT access_key_check;
ALTER TABLE access_key ADD CONSTRAINT access_key_check
    CHECK ((scope = 'person' AND person_id IS NOT NULL) OR (scope IN ('agent', 'router') AND link_id IS NOT NULL));

-- +goose Down
DELETE FROM access_key WHERE scope = 'router';
ALTER TABLE access_key DROP CONSTRAINT access_key_check;
ALTER TABLE access_key ADD CONSTRAINT access_key_check
    CHECK ((scope = 'person' AND person_id IS NOT NULL) OR (scope = 'agent' AND link_id IS NOT NULL));
