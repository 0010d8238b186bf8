-- +goose Up
-- Every transition of a file of an input, kept for good.
CREATE TABLE changes (
    id              bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    input_id        bigint NOT NULL REFERENCES inputs,
    path            bytea NOT NULL,
    at              timestamptz NOT NULL,
    state           text NOT NULL,
    before_state    text NOT NULL,
    verdict         text NOT NULL,
    before_verdict  text NOT NULL,
    sentence        text NOT NULL,
    size            bigint NOT NULL,
    before_size     bigint NOT NULL,
    modified        bigint NOT NULL,
    before_modified bigint NOT NULL,
    digest          text NOT NULL,
    before_digest   text NOT NULL
);
CREATE INDEX ON changes (input_id, id DESC);
CREATE INDEX ON changes (input_id, path, id DESC);

-- The version of a file that a row of the roster was told of.
ALTER TABLE roster ADD COLUMN size bigint NOT NULL DEFAULT 0, ADD COLUMN modified bigint NOT NULL DEFAULT 0, ADD COLUMN digest text NOT NULL DEFAULT '';

-- Files that were removed as of a delivered refresh, so that they return.
CREATE TABLE departed (
    input_id bigint NOT NULL REFERENCES inputs,
    path     bytea NOT NULL,
    receipt  bigint NOT NULL,
    PRIMARY KEY (input_id, path)
);

-- Which versions of a file fed which refreshes: each row is a run of receipts
-- of an input, from first to last, that it fed without a break.
CREATE TABLE fed (
    input_id bigint NOT NULL REFERENCES inputs,
    path     bytea NOT NULL,
    digest   text NOT NULL,
    first    bigint NOT NULL,
    last     bigint NOT NULL,
    PRIMARY KEY (input_id, path, digest, first)
);
CREATE INDEX ON fed (input_id, last);
CREATE INDEX ON fed (digest);

-- Since when so many files of an input are gone that it is not believed.
ALTER TABLE inputs ADD COLUMN doubt jsonb;

-- +goose Down
DROP TABLE fed, departed, changes;
