-- +goose Up
-- What each proving of a device gave; checks is a JSON array as `prove --json` has it.
CREATE TABLE proof (
  id        INTEGER PRIMARY KEY,
  device_id INTEGER NOT NULL REFERENCES device (id),
  at        TEXT NOT NULL,
  ok        INTEGER NOT NULL CHECK (ok IN (0, 1)),
  checks    TEXT NOT NULL DEFAULT '[]'
);
CREATE INDEX proof_device ON proof (device_id, id);

-- +goose Down
DROP TABLE proof;
