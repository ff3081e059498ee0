-- +goose Up
-- form is what a stream that is served on is turned into, cores what that costs its worker, at where the worker serves it, target_id
-- the target that is given it in place of the camera's own, and face_port the port of its ONVIF face, 0 for none.
ALTER TABLE relays ADD COLUMN form jsonb NOT NULL DEFAULT '{}',
    ADD COLUMN cores double precision NOT NULL DEFAULT 0,
    ADD COLUMN at text NOT NULL DEFAULT '',
    ADD COLUMN target_id uuid REFERENCES targets ON DELETE CASCADE,
    ADD COLUMN face_port integer NOT NULL DEFAULT 0;
CREATE UNIQUE INDEX relays_target ON relays (device_id, target_id);
-- What one of the takers gets: pictures a second, and milliseconds from the arrival of a packet to its sending.
ALTER TABLE relay_status ADD COLUMN fps double precision NOT NULL DEFAULT 0, ADD COLUMN delay_ms double precision NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE relay_status DROP COLUMN fps, DROP COLUMN delay_ms;
DROP INDEX relays_target;
ALTER TABLE relays DROP COLUMN form, DROP COLUMN cores, DROP COLUMN at, DROP COLUMN target_id, DROP COLUMN face_port;
