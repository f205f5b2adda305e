-- +goose Up
-- How a service is reached: over IPv4 by a forward, over IPv6 at the device's own address by a pinhole, or both.
ALTER TABLE service ADD COLUMN reach text NOT NULL DEFAULT 'forward' CHECK (reach IN ('forward', 'pinhole', 'both'));

-- +goose Down
ALTER TABLE service DROP COLUMN reach;
