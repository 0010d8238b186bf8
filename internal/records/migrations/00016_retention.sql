-- +goose Up

-- How long the vault keeps the bytes that fed receipts; zero for both keeps all.
CREATE TABLE retention (
    one   boolean PRIMARY KEY DEFAULT true CHECK (one),
    days  int NOT NULL,
    count int NOT NULL
);
INSERT INTO retention (days, count) VALUES (0, 0);

-- +goose Down
DROP TABLE retention;
