-- +goose Up
-- Every password that was offered to a device from this machine, over all jobs: as in a job's register. wire is the
-- simulated site that the MAC is on; MACs on real adapters are the same everywhere.
CREATE TABLE try (
  id      TEXT PRIMARY KEY,
  wire    TEXT NOT NULL DEFAULT '',
  mac     TEXT NOT NULL,
  at      TEXT NOT NULL,
  boot    TEXT NOT NULL DEFAULT '',
  boot_s  REAL NOT NULL DEFAULT 0,
  user    TEXT NOT NULL DEFAULT '',
  origin  TEXT NOT NULL DEFAULT '',
  outcome TEXT NOT NULL DEFAULT '' CHECK (outcome IN ('', 'fitted', 'refused', 'locked')),
  hold_s  REAL NOT NULL DEFAULT 0
);
CREATE INDEX try_mac ON try (wire, mac);

-- +goose Down
DROP TABLE try;
