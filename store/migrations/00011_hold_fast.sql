-- +goose Up
-- A sign-in that is for some devices only is bound to them, and stays bound when they are gone: it is then tried nowhere.
ALTER TABLE sign_ins ADD COLUMN bound boolean NOT NULL DEFAULT false;
CREATE TABLE sign_in_devices (
    sign_in_id uuid NOT NULL REFERENCES sign_ins ON DELETE CASCADE,
    device_id  uuid NOT NULL REFERENCES devices ON DELETE CASCADE,
    PRIMARY KEY (sign_in_id, device_id)
);
INSERT INTO sign_in_devices (sign_in_id, device_id) SELECT id, device_id FROM sign_ins WHERE device_id IS NOT NULL;
UPDATE sign_ins SET bound = true WHERE device_id IS NOT NULL;
ALTER TABLE sign_ins DROP COLUMN device_id;

-- Who works: a worker has an epoch for as long as it holds its lock. What it writes and tries names the epoch, and one that has ended
-- can do neither.
CREATE TABLE workers (
    name  text PRIMARY KEY,
    epoch bigint NOT NULL
);
CREATE SEQUENCE worker_epochs;
ALTER TABLE tries ADD COLUMN worker text NOT NULL DEFAULT '';

-- That a person has agreed to send a sign-in so that it can be read: to one device, to a model on a site, or on a site. Kept after it has
-- ended.
CREATE TABLE agreements (
    id        uuid PRIMARY KEY,
    site_id   uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    device_id uuid REFERENCES devices ON DELETE CASCADE,
    model     text NOT NULL DEFAULT '',
    person_id uuid REFERENCES people ON DELETE SET NULL,
    given_at  timestamptz NOT NULL DEFAULT now(),
    ended_at  timestamptz
);
CREATE INDEX agreements_site ON agreements (site_id);

-- Who did what, where: the names as they were then, since the things may be gone.
ALTER TABLE audit
    ADD COLUMN site_id   uuid,
    ADD COLUMN site      text NOT NULL DEFAULT '',
    ADD COLUMN device_id uuid,
    ADD COLUMN device    text NOT NULL DEFAULT '',
    ADD COLUMN person    text NOT NULL DEFAULT '';
CREATE INDEX audit_at ON audit (at DESC, id DESC);

-- Small facts about the database itself, such as which key its sign-ins are encrypted with.
CREATE TABLE settings (
    name  text PRIMARY KEY,
    value bytea NOT NULL
);

-- Announcements that were not filed, because one address brought more devices than any has, or a site more at once than any has.
CREATE TABLE storms (
    site_id  uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    addr     text NOT NULL,
    first_at timestamptz NOT NULL DEFAULT now(),
    last_at  timestamptz NOT NULL DEFAULT now(),
    dropped  bigint NOT NULL DEFAULT 1,
    PRIMARY KEY (site_id, addr)
);
CREATE INDEX devices_new ON devices (site_id, created_at);

-- Browsers from which a person has signed in before: their tries are counted apart, so that a stranger's cannot shut the person out.
CREATE TABLE browsers (
    token_hash bytea PRIMARY KEY,
    person_id  uuid NOT NULL REFERENCES people ON DELETE CASCADE,
    expires_at timestamptz NOT NULL
);

-- +goose Down
DROP TABLE browsers, storms, settings, agreements, workers;
DROP INDEX devices_new, audit_at;
DROP SEQUENCE worker_epochs;
ALTER TABLE audit DROP COLUMN site_id, DROP COLUMN site, DROP COLUMN device_id, DROP COLUMN device, DROP COLUMN person;
ALTER TABLE tries DROP COLUMN worker;
ALTER TABLE sign_ins ADD COLUMN device_id uuid REFERENCES devices ON DELETE CASCADE;
UPDATE sign_ins s SET device_id = (SELECT device_id FROM sign_in_devices l WHERE l.sign_in_id = s.id LIMIT 1) WHERE bound;
DELETE FROM sign_ins WHERE bound AND device_id IS NULL;
DROP TABLE sign_in_devices;
ALTER TABLE sign_ins DROP COLUMN bound;
