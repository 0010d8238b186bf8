-- +goose Up
-- What reading told beside the findings: the kind of content, the delimiter,
-- and the control totals by column. What was read before is read again.
DELETE FROM checks;
ALTER TABLE checks ADD COLUMN kind text NOT NULL DEFAULT '', ADD COLUMN delimiter text NOT NULL DEFAULT '', ADD COLUMN totals jsonb NOT NULL DEFAULT '{}';

-- What is notable of a file beside other files, its name, or the time.
ALTER TABLE roster ADD COLUMN findings jsonb;

-- +goose Down
ALTER TABLE roster DROP COLUMN findings;
ALTER TABLE checks DROP COLUMN kind, DROP COLUMN delimiter, DROP COLUMN totals;
