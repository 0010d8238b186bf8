-- +goose Up
-- What was asked of a refresh beside the input: parameters, an as-of, files
-- named for this once. Requests that ask the same join while one waits.
ALTER TABLE refreshes ADD COLUMN request jsonb NOT NULL DEFAULT '{}';
DROP INDEX one_waiting;
CREATE UNIQUE INDEX one_waiting ON refreshes (input_id, request) WHERE outcome = 'waiting';

-- parameters are those that a receipt was made with, as canonical JSON; states
-- are told against the last one with equal ones. A receipt of named files alone
-- (once) is no baseline.
ALTER TABLE receipts ADD COLUMN parameters text NOT NULL DEFAULT '{}', ADD COLUMN once boolean NOT NULL DEFAULT false;
DROP INDEX receipts_input_id_number_idx;
CREATE INDEX ON receipts (input_id, parameters, number DESC) WHERE NOT once;

-- Every file and table that was ever delivered, so that a copy of one among the
-- sources is known, and no two inputs write to one.
CREATE TABLE delivered (
    receipt  bigint NOT NULL REFERENCES receipts,
    kind     text NOT NULL,
    name     text NOT NULL,
    input_id bigint NOT NULL REFERENCES inputs,
    size     bigint NOT NULL,
    digest   text NOT NULL,
    PRIMARY KEY (kind, name, receipt)
);
CREATE INDEX ON delivered (receipt);

-- A person's override on one file. path is raw bytes from the place's root;
-- digest, unless empty, binds the hold to those bytes.
CREATE TABLE holds (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    input_id  bigint NOT NULL REFERENCES inputs,
    path      bytea NOT NULL,
    held_in   boolean NOT NULL,
    note      text NOT NULL,
    placed_by text NOT NULL,
    placed_at timestamptz NOT NULL,
    until     timestamptz,
    digest    text NOT NULL DEFAULT '',
    ended_at  timestamptz,
    ended_why text NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX one_hold ON holds (input_id, path) WHERE ended_at IS NULL;
CREATE INDEX ON holds (input_id, id DESC);

ALTER TABLE roster ADD COLUMN line int NOT NULL DEFAULT 0, ADD COLUMN near jsonb, ADD COLUMN entries jsonb;
CREATE INDEX ON roster (input_id, reason, sort_key);
CREATE INDEX ON roster (input_id, sort_key) WHERE near IS NOT NULL;

-- +goose Down
DROP TABLE holds, delivered;
