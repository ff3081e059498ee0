-- +goose Up
-- Whether what devices announce by themselves is listened to between sweeps.
ALTER TABLE sites ADD COLUMN watch boolean NOT NULL DEFAULT true;

-- The certificate that a device last showed: SHA-256 of it. It is the last of the marks by which a device is recognised.
ALTER TABLE devices ADD COLUMN certificate text;
CREATE INDEX devices_certificate ON devices (site_id, certificate);

-- +goose Down
ALTER TABLE devices DROP COLUMN certificate;
ALTER TABLE sites DROP COLUMN watch;
