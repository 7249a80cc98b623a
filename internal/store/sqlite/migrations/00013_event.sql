-- +goose Up
-- What happened to every device, one after another; a row of device is what its events come to. Those
-- of earlier versions begin with an event that has all that was known of them (see adopt).
ALTER TABLE device ADD COLUMN version INTEGER NOT NULL DEFAULT 0;
CREATE TABLE event (
    device_id INTEGER NOT NULL REFERENCES device (id) ON DELETE CASCADE,
    version INTEGER NOT NULL,
    at TEXT NOT NULL,
    author TEXT NOT NULL,
    cause TEXT NOT NULL,
    change TEXT NOT NULL,
    PRIMARY KEY (device_id, version)
) WITHOUT ROWID;

-- +goose Down
DROP TABLE event;
ALTER TABLE device DROP COLUMN version;
