-- +goose Up

-- Other PostgreSQL databases that ready-made tables lie in.
CREATE TABLE connections (
    name text PRIMARY KEY,
    url  text NOT NULL
);

-- +goose Down
DROP TABLE connections;
