-- +goose Up
-- What is worth telling, and to whom beside the console. No inputs are all.
CREATE TABLE notice_rules (
    id     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name   text NOT NULL UNIQUE,
    inputs text[] NOT NULL,
    kinds  text[] NOT NULL,
    mail   text[] NOT NULL,
    hook   text NOT NULL,
    secret text NOT NULL,
    off    boolean NOT NULL
);
INSERT INTO notice_rules (name, inputs, kinds, mail, hook, secret, off)
VALUES ('console', '{}', '{broken,missing,in_doubt,unreachable,stopped,failed}', '{}', '', '', false);

-- What lasts and was told, so that it is told once. An empty subject says that
-- the kind was looked for.
CREATE TABLE told (
    place_id bigint NOT NULL REFERENCES places,
    input_id bigint NOT NULL, -- 0 for the place itself
    kind     text NOT NULL,
    subject  text NOT NULL,
    PRIMARY KEY (place_id, input_id, kind, subject)
);

CREATE TABLE notices (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at         timestamptz NOT NULL,
    kind       text NOT NULL,
    place_id   bigint NOT NULL REFERENCES places,
    input_id   bigint REFERENCES inputs,
    sentence   text NOT NULL,
    count      int NOT NULL,
    named      jsonb NOT NULL,
    refresh_id bigint REFERENCES refreshes,
    receipt    bigint,
    seen       boolean NOT NULL DEFAULT false
);
CREATE INDEX ON notices (id DESC) WHERE NOT seen;
CREATE INDEX ON notices (input_id, id DESC);

-- Notices on their way to somebody.
CREATE TABLE notice_sends (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    notice_id bigint NOT NULL REFERENCES notices,
    rule      text NOT NULL,
    channel   text NOT NULL, -- mail or hook
    address   text NOT NULL,
    state     text NOT NULL, -- due, sent or given_up
    due       timestamptz NOT NULL,
    attempts  int NOT NULL DEFAULT 0,
    problem   text NOT NULL DEFAULT '',
    sent      timestamptz
);
CREATE INDEX ON notice_sends (due) WHERE state = 'due';
CREATE INDEX ON notice_sends (notice_id);

-- Refreshes that ended and were looked at for notices.
ALTER TABLE refreshes ADD COLUMN told boolean NOT NULL DEFAULT false;
UPDATE refreshes SET told = true;
CREATE INDEX ON refreshes (id) WHERE NOT told;

-- +goose Down
ALTER TABLE refreshes DROP COLUMN told;
DROP TABLE notice_sends, notices, told, notice_rules;
