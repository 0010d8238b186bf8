-- +goose Up
-- A file is traced by its path whatever input it fed.
CREATE INDEX fed_by_path ON fed (path);

-- +goose Down
DROP INDEX fed_by_path;
