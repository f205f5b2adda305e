-- +goose Up
-- Groups of moves as they were accepted, until they stand in the tables that are read. Whoever announced waits for one row
-- that is appended here, and not for indexes and for rows that are written anew. id is that of the group's first move.
CREATE TABLE accepted (
    id      bigint PRIMARY KEY,
    content text NOT NULL -- JSON
);
-- A group of some dozens fits into a page, and no time is spent on making it smaller.
ALTER TABLE accepted SET (toast_tuple_target = 8160);
ALTER TABLE accepted ALTER COLUMN content SET STORAGE EXTERNAL;

-- Most of a move's stages are known when it is recorded now, so that less of a page has to be left for what follows.
ALTER TABLE move SET (fillfactor = 80);

-- +goose Down
ALTER TABLE move SET (fillfactor = 45);
DROP TABLE accepted;
