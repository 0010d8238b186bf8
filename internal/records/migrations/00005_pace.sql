-- +goose Up
-- How often a place is looked at, and how long a file in it must be left alone
-- for, in milliseconds; 0 is what the service was started with.
ALTER TABLE places ADD COLUMN every_ms bigint NOT NULL DEFAULT 0, ADD COLUMN settle_ms bigint NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE places DROP COLUMN every_ms, DROP COLUMN settle_ms;
