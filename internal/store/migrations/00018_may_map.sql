-- +goose Up
ALTER TABLE link ADD COLUMN may_map boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE link DROP COLUMN may_map;
