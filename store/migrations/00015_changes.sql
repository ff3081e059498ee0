-- +goose Up
-- The transaction that last changed what a device's status is derived from: its evidence, or what a person wants of it. By it a reader finds
-- what is new since it last looked, whichever process wrote it.
ALTER TABLE devices ADD COLUMN changed xid8 NOT NULL DEFAULT pg_current_xact_id();
CREATE INDEX devices_changed ON devices (site_id, changed);
-- The same of what touches every device of a site: its ranges, agreements, a device that was forgotten.
ALTER TABLE sites ADD COLUMN changed xid8 NOT NULL DEFAULT pg_current_xact_id();

-- +goose Down
ALTER TABLE sites DROP COLUMN changed;
DROP INDEX devices_changed;
ALTER TABLE devices DROP COLUMN changed;
