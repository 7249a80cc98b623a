-- +goose Up
-- What DHCP servers offer beside subnet and gateway; lists are JSON arrays.
ALTER TABLE offer ADD COLUMN dns     TEXT NOT NULL DEFAULT '[]';
ALTER TABLE offer ADD COLUMN ntp     TEXT NOT NULL DEFAULT '[]';
ALTER TABLE offer ADD COLUMN lease_s INTEGER NOT NULL DEFAULT 0;

-- Addresses given by `janustat lease`.
CREATE TABLE lease (
  id      INTEGER PRIMARY KEY,
  mac     TEXT NOT NULL,
  address TEXT NOT NULL,
  at      TEXT NOT NULL,
  until   TEXT NOT NULL
);

-- +goose Down
DROP TABLE lease;
ALTER TABLE offer DROP COLUMN lease_s;
ALTER TABLE offer DROP COLUMN ntp;
ALTER TABLE offer DROP COLUMN dns;
