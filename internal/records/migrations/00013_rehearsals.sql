-- +goose Up

-- What a gate asks a person, and what a rehearsal came to: the header of the
-- receipt that there would be.
ALTER TABLE refreshes ADD COLUMN asks text[] NOT NULL DEFAULT '{}', ADD COLUMN rehearsal bytea;
UPDATE refreshes SET asks = '{broken}' WHERE outcome = 'asking';

-- +goose Down
ALTER TABLE refreshes DROP COLUMN asks, DROP COLUMN rehearsal;
