-- +goose Up
-- What cameras are put onto. A recorder that a sweep has found is one, under the ID of its device; others stand at an address of their own.
CREATE TABLE targets (
    id         uuid PRIMARY KEY,
    site_id    uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    kind       text NOT NULL,
    name       text NOT NULL DEFAULT '', -- as a person gave it; of a device, the device's own name counts
    device_id  uuid UNIQUE REFERENCES devices ON DELETE CASCADE,
    address    text NOT NULL DEFAULT '', -- as the kind writes it; empty for a device
    reach      text[] NOT NULL DEFAULT '{}', -- address and port of each place that the scope guard lets out to
    created_at timestamptz NOT NULL DEFAULT now()
);
INSERT INTO targets (id, site_id, kind, device_id)
    SELECT d.id, d.site_id, 'onvif-recorder', d.id FROM devices d
    WHERE d.id IN (SELECT target_id FROM wanted_placements)
       OR EXISTS (SELECT 1 FROM evidence e WHERE e.device_id = d.id AND e.kind = 'signed_in' AND e.body ->> 'recorder' = 'true');
ALTER TABLE wanted_placements DROP CONSTRAINT wanted_placements_target_id_fkey,
    ADD FOREIGN KEY (target_id) REFERENCES targets ON DELETE CASCADE;

-- What a person uses a stream as. The token is the device's own name of the stream.
CREATE TABLE stream_roles (
    device_id uuid NOT NULL REFERENCES devices ON DELETE CASCADE,
    token     text NOT NULL,
    role      text NOT NULL,
    PRIMARY KEY (device_id, token),
    UNIQUE (device_id, role)
);

-- +goose Down
DROP TABLE stream_roles;
ALTER TABLE wanted_placements DROP CONSTRAINT wanted_placements_target_id_fkey,
    ADD FOREIGN KEY (target_id) REFERENCES devices ON DELETE CASCADE;
DROP TABLE targets;
