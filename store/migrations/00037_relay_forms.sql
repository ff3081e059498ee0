-- +goose Up
-- form is what a stream that is served on is turned into, cores what that costs its worker, at where the worker serves it, and target_id
-- the target that is given it in place of the camera's own.
ALTER TABLE relays ADD COLUMN form jsonb NOT NULL DEFAULT '{}',
    ADD COLUMN cores double precision NOT NULL DEFAULT 0,
    ADD COLUMN at text NOT NULL DEFAULT '',
    ADD COLUMN target_id uuid REFERENCES targets ON DELETE CASCADE;
CREATE UNIQUE INDEX relays_target ON relays (device_id, target_id);

-- +goose Down
DROP INDEX relays_target;
ALTER TABLE relays DROP COLUMN form, DROP COLUMN cores, DROP COLUMN at, DROP COLUMN target_id;
