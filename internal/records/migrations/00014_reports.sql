-- +goose Up

-- A report is refreshed as one: its inputs run together, under one receipt.
CREATE TABLE reports (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name    text NOT NULL UNIQUE,
    version bigint NOT NULL,
    inputs  bigint[] NOT NULL
);

CREATE TABLE report_definitions (
    report_id bigint NOT NULL REFERENCES reports,
    version   bigint NOT NULL,
    text      text NOT NULL,
    digest    text NOT NULL,
    saved_at  timestamptz NOT NULL,
    saved_by  text NOT NULL,
    PRIMARY KEY (report_id, version)
);

ALTER TABLE refreshes ALTER COLUMN input_id DROP NOT NULL, ADD COLUMN report_id bigint REFERENCES reports;
CREATE TABLE refresh_inputs (
    input_id   bigint NOT NULL REFERENCES inputs,
    refresh_id bigint NOT NULL REFERENCES refreshes,
    PRIMARY KEY (input_id, refresh_id)
);
CREATE INDEX ON refresh_inputs (refresh_id);
INSERT INTO refresh_inputs (input_id, refresh_id) SELECT input_id, id FROM refreshes;
DROP INDEX one_running, one_waiting;
CREATE UNIQUE INDEX one_waiting ON refreshes (coalesce(input_id, 0), coalesce(report_id, 0), request) WHERE outcome = 'waiting';

-- An input that is being refreshed.
CREATE TABLE running (
    input_id   bigint PRIMARY KEY REFERENCES inputs,
    refresh_id bigint NOT NULL REFERENCES refreshes
);
INSERT INTO running (input_id, refresh_id) SELECT input_id, id FROM refreshes WHERE outcome = 'running';

CREATE TABLE receipt_inputs (
    input_id   bigint NOT NULL REFERENCES inputs,
    number     bigint NOT NULL REFERENCES receipts,
    parameters text NOT NULL,
    once       boolean NOT NULL,
    PRIMARY KEY (input_id, number)
);
INSERT INTO receipt_inputs (input_id, number, parameters, once) SELECT input_id, number, parameters, once FROM receipts;
CREATE INDEX ON receipt_inputs (input_id, parameters, number DESC) WHERE NOT once;
ALTER TABLE receipts DROP COLUMN input_id, DROP COLUMN parameters, DROP COLUMN once;

-- When an input or report is refreshed without a person asking.
CREATE TABLE schedules (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    input_id    bigint REFERENCES inputs,
    report_id   bigint REFERENCES reports,
    next_due    timestamptz,
    arrivals_ms bigint NOT NULL,
    on_complete boolean NOT NULL,
    arrived     timestamptz, -- the first change that no refresh was asked for
    changed     timestamptz, -- the last one
    complete    text[],      -- periods that were complete when it was told last
    fresh       text[] NOT NULL DEFAULT '{}' -- those of them that no refresh was asked for
);
CREATE UNIQUE INDEX ON schedules (coalesce(input_id, 0), coalesce(report_id, 0));
CREATE INDEX ON schedules (next_due);

-- +goose Down
DROP TABLE schedules;
DELETE FROM refresh_inputs WHERE refresh_id IN (SELECT id FROM refreshes WHERE report_id IS NOT NULL);
ALTER TABLE receipts ADD COLUMN input_id bigint REFERENCES inputs, ADD COLUMN parameters text NOT NULL DEFAULT '{}', ADD COLUMN once boolean NOT NULL DEFAULT false;
UPDATE receipts r SET input_id = i.input_id, parameters = i.parameters, once = i.once FROM receipt_inputs i WHERE i.number = r.number;
CREATE INDEX ON receipts (input_id, parameters, number DESC) WHERE NOT once;
DROP TABLE receipt_inputs, running, refresh_inputs;
DROP INDEX one_waiting;
ALTER TABLE refreshes DROP COLUMN report_id;
CREATE UNIQUE INDEX one_waiting ON refreshes (input_id, request) WHERE outcome = 'waiting';
CREATE UNIQUE INDEX one_running ON refreshes (input_id) WHERE outcome = 'running';
DROP TABLE report_definitions, reports;
