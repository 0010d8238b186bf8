-- +goose Up
-- The cells of a table's header, as they are written; null where none was found.
ALTER TABLE checks ADD COLUMN headers text[];

-- +goose Down
ALTER TABLE checks DROP COLUMN headers;
