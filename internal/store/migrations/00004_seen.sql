-- +goose Up
ALTER TABLE move ADD COLUMN seen_at timestamptz; -- when every resolver gave the new address

-- +goose Down
ALTER TABLE move DROP COLUMN seen_at;
