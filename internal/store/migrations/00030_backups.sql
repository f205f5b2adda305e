-- +goose Up
-- Backups that were made, so that somebody can be told when the newest is too old.
CREATE TABLE backups (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    made_at timestamptz NOT NULL,
    octets  bigint NOT NULL,
    machine text NOT NULL,
    sealed  boolean NOT NULL
);

-- +goose Down
DROP TABLE backups;
