-- +goose Up
-- Slots of an input's coverage that a person excused. member and period are
-- those that the grid shows; either may be empty.
CREATE TABLE excuses (
    input_id   bigint NOT NULL REFERENCES inputs,
    member     text NOT NULL,
    period     text NOT NULL,
    note       text NOT NULL,
    excused_by text NOT NULL,
    excused_at timestamptz NOT NULL,
    PRIMARY KEY (input_id, member, period)
);

-- +goose Down
DROP TABLE excuses;
