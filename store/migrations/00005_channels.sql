-- +goose Up
-- A camera on a recorder's own switch is reached through the recorder, as one of its channels.
ALTER TABLE devices ADD COLUMN via uuid REFERENCES devices ON DELETE CASCADE, ADD COLUMN channel int NOT NULL DEFAULT 0;
CREATE UNIQUE INDEX devices_via ON devices (via, channel) WHERE via IS NOT NULL;

-- +goose Down
DELETE FROM devices WHERE via IS NOT NULL;
ALTER TABLE devices DROP COLUMN via, DROP COLUMN channel;
