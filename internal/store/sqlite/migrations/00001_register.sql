-- +goose Up
-- The register: every device as found, as left, and each step between.
-- Times are RFC 3339 UTC. Settings and facts are JSON objects as published in docs/register.md.
CREATE TABLE device (
  id         INTEGER PRIMARY KEY,
  tag        TEXT NOT NULL DEFAULT '',
  in_job     TEXT NOT NULL DEFAULT '' CHECK (in_job IN ('', 'taken', 'left')),
  mac        TEXT NOT NULL DEFAULT '',
  endpoint   TEXT NOT NULL DEFAULT '',
  kind       TEXT NOT NULL DEFAULT '',
  serial     TEXT NOT NULL DEFAULT '',
  access     TEXT NOT NULL DEFAULT '',
  condition  TEXT NOT NULL DEFAULT '',
  address    TEXT NOT NULL DEFAULT '',
  addresses  TEXT NOT NULL DEFAULT '[]',
  clashing   TEXT NOT NULL DEFAULT '[]',
  facts      TEXT NOT NULL DEFAULT '{}',
  allotted   TEXT,
  why        TEXT NOT NULL DEFAULT '',
  as_found   TEXT,
  as_left    TEXT,
  first_seen TEXT NOT NULL,
  seen_at    TEXT NOT NULL,
  proved_at  TEXT
);
CREATE UNIQUE INDEX device_mac ON device (mac) WHERE mac <> '';
CREATE UNIQUE INDEX device_tag ON device (tag) WHERE tag <> '';

CREATE TABLE survey (
  id      INTEGER PRIMARY KEY,
  at      TEXT NOT NULL,
  took_ms INTEGER NOT NULL,
  found   INTEGER NOT NULL,
  laptop  TEXT NOT NULL DEFAULT '[]'   -- the laptop's own addresses on the wire, JSON
);

-- What DHCP servers offered when last asked; no lease was taken.
CREATE TABLE offer (
  server_mac TEXT NOT NULL,
  server     TEXT NOT NULL,
  subnet     TEXT NOT NULL,
  gateway    TEXT NOT NULL DEFAULT '',
  offered    TEXT NOT NULL,
  at         TEXT NOT NULL
);

-- Intent before each write, outcome after. An empty outcome was cut short.
CREATE TABLE journal (
  id        INTEGER PRIMARY KEY,
  device_id INTEGER NOT NULL REFERENCES device (id),
  step      TEXT NOT NULL,
  intent    TEXT NOT NULL,
  begun_at  TEXT NOT NULL,
  outcome   TEXT NOT NULL DEFAULT '' CHECK (outcome IN ('', 'done', 'refused', 'unknown')),
  detail    TEXT NOT NULL DEFAULT '',
  ended_at  TEXT
);
CREATE INDEX journal_device ON journal (device_id, id);

-- Password tries that are not known to have succeeded.
CREATE TABLE attempt (
  id        INTEGER PRIMARY KEY,
  device_id INTEGER NOT NULL REFERENCES device (id),
  at        TEXT NOT NULL
);
CREATE INDEX attempt_device ON attempt (device_id, at);

-- +goose Down
DROP TABLE attempt; DROP TABLE journal; DROP TABLE offer; DROP TABLE survey; DROP TABLE device;
