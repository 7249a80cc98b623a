-- +goose Up
-- Subnets in which a survey did not ask for every address, as JSON.
ALTER TABLE survey ADD COLUMN unasked TEXT NOT NULL DEFAULT '[]';

-- +goose Down
ALTER TABLE survey DROP COLUMN unasked;
