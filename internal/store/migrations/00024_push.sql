-- +goose Up
-- Browsers that want to be told, and the keys by which their push services know this installation.
ALTER TABLE installation ADD COLUMN push_public text NOT NULL DEFAULT '', ADD COLUMN push_private text NOT NULL DEFAULT '';
CREATE TABLE push_subscription (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    person_id bigint NOT NULL REFERENCES person ON DELETE CASCADE,
    endpoint text NOT NULL UNIQUE,
    p256dh text NOT NULL,
    auth text NOT NULL,
    label text NOT NULL,
    created_at timestamptz NOT NULL
);
CREATE INDEX push_subscription_person ON push_subscription (person_id);
-- A delivery by push is to one browser.
ALTER TABLE delivery ADD COLUMN push_id bigint REFERENCES push_subscription ON DELETE SET NULL;

-- +goose Down
ALTER TABLE delivery DROP COLUMN push_id;
DROP TABLE push_subscription;
ALTER TABLE installation DROP COLUMN push_public, DROP COLUMN push_private;
