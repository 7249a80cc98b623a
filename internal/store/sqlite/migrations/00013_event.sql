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

-- Whether there are any that no version with events has written is asked at every start.
CREATE INDEX device_before_events ON device (id) WHERE version = 0;
-- What devices are called is asked at every completion.
ALTER TABLE device ADD COLUMN name TEXT NOT NULL DEFAULT '';
UPDATE device SET name = coalesce(json_extract(facts, '$.name'), '') WHERE json_valid(facts);
CREATE INDEX device_called ON device (mac, tag, in_job, kind, serial, name);

-- +goose Down
DROP INDEX device_called;
ALTER TABLE device DROP COLUMN name;
DROP INDEX device_before_events;
DROP TABLE event;
ALTER TABLE device DROP COLUMN version;
