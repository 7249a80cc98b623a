-- +goose Up
-- Whether an address was asked for in place of one that the device had by right. Earlier versions told
-- that by the beginning of the reason.
ALTER TABLE device ADD COLUMN asked INTEGER NOT NULL DEFAULT 0;
UPDATE device SET asked = 1 WHERE why LIKE 'as asked for; %';

-- +goose Down
ALTER TABLE device DROP COLUMN asked;
