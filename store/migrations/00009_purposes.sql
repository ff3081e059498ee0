-- +goose Up
-- What a sign-in is for, the one device that it may be for, what a try was made on, and how long a device says that it is locked.
ALTER TABLE sign_ins
    ADD COLUMN purpose   text NOT NULL DEFAULT '',             -- device, stream or web; '' for all
    ADD COLUMN device_id uuid REFERENCES devices ON DELETE CASCADE; -- for this device only; NULL for all
ALTER TABLE tries
    ADD COLUMN purpose text NOT NULL DEFAULT 'device',
    ADD COLUMN until   timestamptz;                            -- of a try that met a lock: when the lock ends

-- +goose Down
ALTER TABLE sign_ins DROP COLUMN purpose, DROP COLUMN device_id;
ALTER TABLE tries DROP COLUMN purpose, DROP COLUMN until;
