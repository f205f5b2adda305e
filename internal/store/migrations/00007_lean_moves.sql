-- +goose Up
-- A move goes with its link, and the link with its site: one check a move is enough.
ALTER TABLE move DROP CONSTRAINT move_site_id_fkey;

-- +goose Down
ALTER TABLE move ADD FOREIGN KEY (site_id) REFERENCES site ON DELETE CASCADE;
