-- +goose Up
-- A refresh that waits for a person is told from the start.
UPDATE notice_rules SET kinds = kinds || '{waiting}' WHERE name = 'console' AND NOT 'waiting' = ANY(kinds);

-- +goose Down
UPDATE notice_rules SET kinds = array_remove(kinds, 'waiting');
