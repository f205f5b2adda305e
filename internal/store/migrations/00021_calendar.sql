-- +goose Up
-- A key of the scope calendar reads one calendar by its URL, and nothing else.
ALTER TABLE access_key DROP CONSTRAINT access_key_check;
ALTER TABLE access_key ADD CONSTRAINT access_key_check CHECK ((scope IN ('person', 'calendar') AND person_id IS NOT NULL)
    OR (scope IN ('agent', 'router') AND link_id IS NOT NULL) OR (scope = 'vantage' AND vantage_id IS NOT NULL));

-- +goose Down
DELETE FROM access_key WHERE scope = 'calendar';
ALTER TABLE access_key DROP CONSTRAINT access_key_check;
ALTER TABLE access_key ADD CONSTRAINT access_key_check CHECK ((scope = 'person' AND person_id IS NOT NULL)
    OR (scope IN ('agent', 'router') AND link_id IS NOT NULL) OR (scope = 'vantage' AND vantage_id IS NOT NULL));
