-- +goose Up
-- Lists of sites that somebody narrows again and again, as they stand in the address of the console's page.
CREATE TABLE site_filter (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    person_id bigint NOT NULL REFERENCES person ON DELETE CASCADE,
    query     text NOT NULL,
    UNIQUE (person_id, query)
);

-- +goose Down
DROP TABLE site_filter;
