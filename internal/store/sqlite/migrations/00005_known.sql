-- +goose Up
-- What is known of a device beyond what it is: when a password of the job last opened it, when it was reset, when
-- what a record tells of it last changed, and why nothing is offered to it.
ALTER TABLE device ADD COLUMN opened_at  TEXT NOT NULL DEFAULT '';
ALTER TABLE device ADD COLUMN reset_at   TEXT NOT NULL DEFAULT '';
ALTER TABLE device ADD COLUMN changed_at TEXT NOT NULL DEFAULT '';
ALTER TABLE device ADD COLUMN alarm      TEXT NOT NULL DEFAULT '';
UPDATE device SET opened_at = seen_at WHERE access IN ('keyed', 'factory');
UPDATE device SET changed_at = seen_at;

-- The site network as it was resolved, with the source of each fact; one row.
CREATE TABLE ground (
  id    INTEGER PRIMARY KEY CHECK (id = 1),
  at    TEXT NOT NULL,
  facts TEXT NOT NULL
);

-- Every password that was offered to a device without being known to fit: whose it is and where it comes from, never
-- what it is. boot and boot_s tell the moment by a clock that nobody sets. hold_s is for how long the device itself
-- said that it answers nothing.
CREATE TABLE try (
  id      TEXT PRIMARY KEY,
  mac     TEXT NOT NULL,
  at      TEXT NOT NULL,
  boot    TEXT NOT NULL DEFAULT '',
  boot_s  REAL NOT NULL DEFAULT 0,
  user    TEXT NOT NULL DEFAULT '',
  origin  TEXT NOT NULL DEFAULT '',
  outcome TEXT NOT NULL DEFAULT '' CHECK (outcome IN ('', 'fitted', 'refused', 'locked')),
  hold_s  REAL NOT NULL DEFAULT 0
);
CREATE INDEX try_mac ON try (mac);
INSERT INTO try (id, mac, at, outcome)
  SELECT 'attempt-' || attempt.id, device.mac, attempt.at, 'refused' FROM attempt JOIN device ON device.id = attempt.device_id WHERE device.mac <> '';
DROP TABLE attempt;

-- +goose Down
DROP TABLE try;
DROP TABLE ground;
