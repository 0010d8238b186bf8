-- +goose Up
-- Whether the place's directory was a mounted file system. When it is none any
-- more, the share is away, and what lies there instead is not the place.
ALTER TABLE places ADD COLUMN mounted boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE places DROP COLUMN mounted;
