-- +goose Up
-- A move is written once more when its stages are known, and a link with every move. Where the page has room for the new
-- version of a row, no index has to be told of it: that is a quarter of the work.
ALTER TABLE move SET (fillfactor = 45);
ALTER TABLE link SET (fillfactor = 20);

-- +goose Down
ALTER TABLE move RESET (fillfactor);
ALTER TABLE link RESET (fillfactor);
