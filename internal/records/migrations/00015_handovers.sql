-- +goose Up

ALTER TABLE places ADD COLUMN writable boolean NOT NULL DEFAULT false;

-- The journal of handovers: what is to become of each file that fed a receipt, and
-- what came of it.
CREATE TABLE handovers (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    receipt  bigint NOT NULL REFERENCES receipts,
    input_id bigint NOT NULL REFERENCES inputs,
    place_id bigint NOT NULL REFERENCES places,
    file_id  bigint NOT NULL,
    path     bytea NOT NULL,
    size     bigint NOT NULL,
    modified bigint NOT NULL,
    digest   text NOT NULL,
    action   text NOT NULL,
    folder   bytea NOT NULL, -- that it goes to
    target   bytea NOT NULL DEFAULT '', -- that was chosen for it
    keep     boolean NOT NULL,
    state    text NOT NULL DEFAULT 'due', -- due, done or failed
    problem  text NOT NULL DEFAULT '',
    ended    timestamptz,
    recorded bigint -- number of the record that tells of it
);
CREATE INDEX ON handovers (receipt, id);
CREATE INDEX ON handovers (input_id, path) WHERE action = 'copy';
CREATE INDEX ON handovers (id) WHERE state = 'due' OR recorded IS NULL;
CREATE INDEX ON handovers (place_id) WHERE target <> '';

-- Files that were moved or deleted by a handover. They are known, and those that
-- feed go on feeding.
CREATE TABLE handed_over (
    input_id bigint NOT NULL REFERENCES inputs,
    path     bytea NOT NULL,
    file_id  bigint NOT NULL,
    size     bigint NOT NULL,
    modified bigint NOT NULL,
    digest   text NOT NULL,
    receipt  bigint NOT NULL,
    feeds    boolean NOT NULL,
    PRIMARY KEY (input_id, path)
);

-- What came of handovers, a chain of its own beside that of receipts.
CREATE TABLE handover_records (
    number   bigint PRIMARY KEY,
    receipt  bigint NOT NULL REFERENCES receipts,
    record   bytea NOT NULL,
    digest   text NOT NULL,
    previous text NOT NULL
);
CREATE INDEX ON handover_records (receipt);

-- +goose Down
DROP TABLE handover_records, handed_over, handovers;
ALTER TABLE places DROP COLUMN writable;
