-- +goose Up
-- What was removed from the record, and can be brought back until a moment: every row that went with it, as it was. The record itself does
-- not have them any more, so that names and ports are free. What was removed of a site goes with the site.
CREATE TABLE removed (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    kind text NOT NULL,
    ref bigint NOT NULL, -- its ID on the record
    name text NOT NULL,
    site_id bigint REFERENCES site ON DELETE CASCADE, -- null: it is a site itself
    site text NOT NULL,
    tags jsonb NOT NULL, -- of the site
    person text NOT NULL,
    at timestamptz NOT NULL,
    until timestamptz NOT NULL
);
CREATE INDEX removed_until ON removed (until);

CREATE TABLE removed_row (
    removed_id bigint NOT NULL REFERENCES removed ON DELETE CASCADE,
    relation text NOT NULL,
    row_key text NOT NULL, -- its primary key
    doc jsonb NOT NULL,
    PRIMARY KEY (removed_id, relation, row_key)
);

-- +goose Down
DROP TABLE removed_row, removed;
