-- +goose Up
CREATE TABLE places (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    kind       text NOT NULL,
    directory  text NOT NULL,
    reachable  boolean NOT NULL DEFAULT true,
    why        text NOT NULL DEFAULT '',
    since      timestamptz
);

CREATE TABLE looks (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    place_id  bigint NOT NULL REFERENCES places,
    started   timestamptz NOT NULL,
    ended     timestamptz NOT NULL,
    reachable boolean NOT NULL,
    why       text NOT NULL DEFAULT '',
    files     bigint NOT NULL,
    folders   bigint NOT NULL,
    new       bigint NOT NULL,
    changed   bigint NOT NULL,
    gone      bigint NOT NULL,
    skipped   jsonb NOT NULL
);
CREATE INDEX ON looks (place_id, id DESC);

-- Each file of a place once. Paths are raw bytes; sort_key is their natural
-- order. evidence: 0 its folder could not be listed, 1 present, 2 gone.
-- digest belongs to the mark (size, modified, changed, inode) of its row; fresh
-- tells that the file had just been written when it was computed. Files and
-- rosters have no foreign keys: checking one row by row doubles the time of a
-- first look, and only this service writes them.
CREATE SEQUENCE file_ids;
CREATE TABLE files (
    id       bigint PRIMARY KEY,
    place_id bigint NOT NULL,
    path     bytea NOT NULL,
    sort_key bytea NOT NULL,
    size     bigint NOT NULL,
    modified bigint NOT NULL,
    changed  bigint NOT NULL,
    inode    bigint NOT NULL,
    evidence smallint NOT NULL,
    digest   text,
    fresh    boolean NOT NULL DEFAULT false,
    trouble  jsonb
);
CREATE UNIQUE INDEX ON files (place_id, sort_key);

CREATE TABLE inputs (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name     text NOT NULL UNIQUE,
    place_id bigint NOT NULL REFERENCES places,
    version  bigint NOT NULL,
    layout   text NOT NULL,
    counts   jsonb NOT NULL DEFAULT '{}'
);
CREATE INDEX ON inputs (place_id);

CREATE TABLE definitions (
    input_id bigint NOT NULL REFERENCES inputs,
    version  bigint NOT NULL,
    text     text NOT NULL,
    digest   text NOT NULL,
    saved_at timestamptz NOT NULL,
    saved_by text NOT NULL,
    PRIMARY KEY (input_id, version)
);

-- What inputs deliver; no two the same.
CREATE TABLE deliveries (
    kind     text NOT NULL,
    name     text NOT NULL,
    input_id bigint NOT NULL REFERENCES inputs,
    PRIMARY KEY (kind, name)
);

-- An input's own rows: files picked, held back, or left out by a rule of its
-- own, and those of its baseline. A file without one meets no pattern.
CREATE TABLE roster (
    input_id bigint NOT NULL,
    file_id  bigint NOT NULL,
    sort_key bytea NOT NULL,
    verdict  text NOT NULL,
    reason   text NOT NULL,
    sentence text NOT NULL,
    rule     text NOT NULL,
    captures jsonb NOT NULL,
    state    text NOT NULL,
    PRIMARY KEY (input_id, file_id)
);
CREATE INDEX ON roster (input_id, sort_key);
CREATE INDEX ON roster (input_id, state, sort_key);

-- What reading some bytes under some layout came to.
CREATE TABLE checks (
    digest    text NOT NULL,
    layout    text NOT NULL,
    rows_read bigint NOT NULL,
    rows_kept bigint NOT NULL,
    findings  jsonb NOT NULL,
    broken    boolean NOT NULL,
    PRIMARY KEY (layout, digest)
);

CREATE TABLE refreshes (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    input_id    bigint NOT NULL REFERENCES inputs,
    outcome     text NOT NULL,
    asked_by    text NOT NULL,
    asked_at    timestamptz NOT NULL,
    as_of       timestamptz NOT NULL,
    started     timestamptz,
    ended       timestamptz,
    stage       text NOT NULL,
    files       bigint NOT NULL DEFAULT 0,
    files_done  bigint NOT NULL DEFAULT 0,
    bytes       bigint NOT NULL DEFAULT 0,
    bytes_done  bigint NOT NULL DEFAULT 0,
    rows        bigint NOT NULL DEFAULT 0,
    problem     text NOT NULL DEFAULT '',
    next        text NOT NULL DEFAULT '',
    stopped_by  jsonb NOT NULL DEFAULT '[]',
    fence       bigint NOT NULL DEFAULT 0,
    lease_until timestamptz
);
CREATE INDEX ON refreshes (input_id, id DESC);
CREATE UNIQUE INDEX one_waiting ON refreshes (input_id) WHERE outcome = 'waiting';
CREATE UNIQUE INDEX one_running ON refreshes (input_id) WHERE outcome = 'running';

CREATE TABLE receipts (
    number     bigint PRIMARY KEY,
    refresh_id bigint NOT NULL UNIQUE REFERENCES refreshes,
    input_id   bigint NOT NULL REFERENCES inputs,
    header     bytea NOT NULL,
    digest     text NOT NULL,
    previous   text NOT NULL
);
CREATE INDEX ON receipts (input_id, number DESC);

-- The head of the chain, one row, locked only while a refresh commits.
CREATE TABLE chain (
    one    boolean PRIMARY KEY DEFAULT true CHECK (one),
    number bigint NOT NULL,
    digest text NOT NULL
);
INSERT INTO chain (number, digest) VALUES (0, repeat('0', 64));

-- Files that a committed refresh still has to put in their places.
CREATE TABLE publications (
    refresh_id bigint NOT NULL REFERENCES refreshes,
    staged     text NOT NULL,
    final      text NOT NULL,
    PRIMARY KEY (refresh_id, staged)
);

CREATE TABLE sessions (
    digest  text PRIMARY KEY,
    expires timestamptz NOT NULL
);

CREATE SCHEMA IF NOT EXISTS delivered;

-- +goose Down
DROP TABLE sessions, publications, chain, receipts, refreshes, checks, roster, deliveries, definitions, inputs, files, looks, places;
DROP SEQUENCE file_ids;
