-- +goose Up
-- The last change that a person made to the register and that touched no device, with what was there before it, as JSON;
-- one row.
CREATE TABLE undo (
  id    INTEGER PRIMARY KEY CHECK (id = 1),
  at    TEXT NOT NULL,
  state TEXT NOT NULL
);

-- +goose Down
DROP TABLE undo;
