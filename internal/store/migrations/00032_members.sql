-- +goose Up
-- Where the server that writes is reached by the others on this database, and the key by which they say whom they relay for.
ALTER TABLE writer ADD COLUMN url text NOT NULL DEFAULT '', ADD COLUMN relay_key text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE writer DROP COLUMN url, DROP COLUMN relay_key;
