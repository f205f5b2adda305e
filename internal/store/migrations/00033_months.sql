-- +goose Up
-- The days of a service in a month that is over, packed together: a row for each day costs more than what it says.
CREATE TABLE rollup_month (
    service_id bigint NOT NULL,
    month      date NOT NULL,
    days       bytea NOT NULL,
    PRIMARY KEY (service_id, month)
);
CREATE INDEX rollup_month_month ON rollup_month (month);

-- +goose Down
DROP TABLE rollup_month;
