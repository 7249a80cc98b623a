-- +goose Up
-- The temporary address that was taken last in each subnet: it is asked for first by the next command, since what is
-- there has it in mind.
CREATE TABLE visitor (
  subnet  TEXT PRIMARY KEY,
  address TEXT NOT NULL,
  at      TEXT NOT NULL
);

-- +goose Down
DROP TABLE visitor;
