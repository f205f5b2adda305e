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

-- +goose Down
DROP TABLE accepted;
