-- +goose Up
-- Whether a write carried a password without encryption.
ALTER TABLE journal ADD COLUMN in_clear INTEGER NOT NULL DEFAULT 0 CHECK (in_clear IN (0, 1));

-- +goose Down
ALTER TABLE journal DROP COLUMN in_clear;
