-- +goose Up
-- A device is recognised by its endpoint reference, its serial number and its hardware address, in that order; see core/identity.
ALTER TABLE devices ADD COLUMN serial text, ADD COLUMN mac text;
CREATE INDEX devices_serial ON devices (site_id, serial);
CREATE INDEX devices_mac ON devices (site_id, mac);

-- How a site's network is laid out: camera pool, DHCP pool, gateway. JSON of address.Network.
ALTER TABLE sites ADD COLUMN network jsonb NOT NULL DEFAULT '{}';

-- +goose Down
ALTER TABLE sites DROP COLUMN network;
ALTER TABLE devices DROP COLUMN serial, DROP COLUMN mac;
