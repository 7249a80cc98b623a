-- +goose Up
-- How many questions to everyone a second a wire has shown to bear, by the wire's name.
CREATE TABLE wire (
  name       TEXT PRIMARY KEY,
  broadcasts REAL NOT NULL,
  at         TEXT NOT NULL
);

-- +goose Down
DROP TABLE wire;
