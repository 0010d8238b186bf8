-- +goose Up

-- Bytes that the vault was let go of, and the newest receipt that named them then:
-- missing for a newer one, they are lost.
CREATE TABLE freed (
    digest  text PRIMARY KEY,
    through bigint NOT NULL
);

-- +goose Down
DROP TABLE freed;
