-- +goose Up
-- The modified time that a file had when it was first seen, in nanoseconds since
-- 1970: when it came, however often it is edited.
ALTER TABLE files ADD COLUMN came bigint NOT NULL DEFAULT 0;
UPDATE files SET came = modified;

-- +goose Down
ALTER TABLE files DROP COLUMN came;
