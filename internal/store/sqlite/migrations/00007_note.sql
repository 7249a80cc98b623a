-- +goose Up
-- What a person knows of a device: its place, the port of the switch, a remark, and fields of their own.
CREATE TABLE note (
  device_id INTEGER NOT NULL REFERENCES device (id) ON DELETE CASCADE,
  field     TEXT NOT NULL,
  value     TEXT NOT NULL,
  PRIMARY KEY (device_id, field)
);

-- +goose Down
DROP TABLE note;
