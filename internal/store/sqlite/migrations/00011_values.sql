-- +goose Up
-- What was to be written, as JSON. Steps that an earlier version wrote have it in words, as intent.
ALTER TABLE journal ADD COLUMN value TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE journal DROP COLUMN value;
