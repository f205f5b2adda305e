-- +goose Up
-- A move is recorded in the statement that changes its link, which proves that the link is there: a foreign key would look it
-- up once more for each of thousands of moves a second. That moves go with their link is seen to here.
ALTER TABLE move DROP CONSTRAINT move_link_id_fkey;
-- +goose StatementBegin
CREATE FUNCTION drop_moves() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    DELETE FROM move WHERE link_id = OLD.id;
    RETURN OLD;
END $$;
-- +goose StatementEnd
CREATE TRIGGER link_moves AFTER DELETE ON link FOR EACH ROW EXECUTE FUNCTION drop_moves();

-- +goose Down
DROP TRIGGER link_moves ON link;
DROP FUNCTION drop_moves;
ALTER TABLE move ADD FOREIGN KEY (link_id) REFERENCES link ON DELETE CASCADE;
