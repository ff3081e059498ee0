-- +goose Up
-- When each device last changed stands in a table of its own. It changes with every finding, and a row of devices has eight indexes, each of
-- which took a new entry for it.
CREATE TABLE device_marks (
    device_id uuid PRIMARY KEY REFERENCES devices ON DELETE CASCADE,
    site_id   uuid NOT NULL,
    changed   xid8 NOT NULL -- the transaction that last changed what the device's status is derived from
);
INSERT INTO device_marks (device_id, site_id, changed) SELECT id, site_id, changed FROM devices;
CREATE INDEX device_marks_changed ON device_marks (site_id, changed);
DROP INDEX devices_changed;
ALTER TABLE devices DROP COLUMN changed;

-- +goose StatementBegin
CREATE FUNCTION mark_new_device() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO device_marks (device_id, site_id, changed) VALUES (NEW.id, NEW.site_id, pg_current_xact_id());
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER devices_marked AFTER INSERT ON devices FOR EACH ROW EXECUTE FUNCTION mark_new_device();

-- A placing of 500 cameras on three targets looked up each of three targets 500 times. Whoever wishes for a target holds it already, in the
-- same transaction (Acts.Confirm); what is wanted of a target that goes, goes with it.
ALTER TABLE wanted_placements DROP CONSTRAINT wanted_placements_target_id_fkey;
-- +goose StatementBegin
CREATE FUNCTION unwant_target() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    DELETE FROM wanted_placements WHERE target_id = OLD.id;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER targets_unwanted AFTER DELETE ON targets FOR EACH ROW EXECUTE FUNCTION unwant_target();

-- +goose Down
DROP TRIGGER targets_unwanted ON targets;
DROP FUNCTION unwant_target();
DELETE FROM wanted_placements WHERE target_id NOT IN (SELECT id FROM targets);
ALTER TABLE wanted_placements ADD FOREIGN KEY (target_id) REFERENCES targets ON DELETE CASCADE;
DROP TRIGGER devices_marked ON devices;
DROP FUNCTION mark_new_device();
ALTER TABLE devices ADD COLUMN changed xid8 NOT NULL DEFAULT pg_current_xact_id();
CREATE INDEX devices_changed ON devices (site_id, changed);
DROP TABLE device_marks;
