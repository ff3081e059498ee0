-- +goose Up
-- Whether an agreement covers what goes out without TLS as well.
ALTER TABLE agreements ADD COLUMN in_clear boolean NOT NULL DEFAULT true;

-- A try is counted by where it was sent as well as by the device that named the place; targets have tries of their own.
ALTER TABLE tries
    ALTER COLUMN device_id DROP NOT NULL,
    ADD COLUMN target_id uuid REFERENCES targets ON DELETE CASCADE,
    ADD COLUMN site_id   uuid REFERENCES sites ON DELETE CASCADE,
    ADD COLUMN host      text NOT NULL DEFAULT '',
    ADD CHECK (num_nonnulls(device_id, target_id) = 1);
CREATE INDEX tries_host ON tries (site_id, host, at DESC);
CREATE INDEX tries_target ON tries (target_id, at DESC);

-- That a person has agreed to a secret going to a target so that it can be read, and to whom. Kept after it has ended.
CREATE TABLE target_agreements (
    id        uuid PRIMARY KEY,
    target_id uuid NOT NULL REFERENCES targets ON DELETE CASCADE,
    secret    text NOT NULL,  -- its own sign-in, the cameras' sign-ins, a stream key
    identity  jsonb,          -- who it was given for; NULL until somebody has answered there
    person_id uuid REFERENCES people ON DELETE SET NULL,
    person    text NOT NULL DEFAULT '',
    given_at  timestamptz NOT NULL DEFAULT now(),
    ended_at  timestamptz,
    ended_why text NOT NULL DEFAULT ''
);
CREATE INDEX target_agreements_of ON target_agreements (target_id);

-- What was agreed before said nothing of who it was for, so that it holds for nobody.
ALTER TABLE targets
    DROP COLUMN agreed,
    ADD COLUMN takes        text NOT NULL DEFAULT '',     -- the scheme in which it has taken its sign-in last
    ADD COLUMN pin_taken    boolean NOT NULL DEFAULT false, -- a person has looked at its certificate
    ADD COLUMN opened_under text NOT NULL DEFAULT '',     -- the certificate under which opened_with has opened it, readable
    ADD COLUMN opened_with  uuid;

-- Addresses that feeds have had: who still asks for one is told, and guesses at nothing.
CREATE TABLE past_feeds (
    feed_hash bytea PRIMARY KEY,
    target_id uuid NOT NULL REFERENCES targets ON DELETE CASCADE
);

-- Passes of workers that were used: a pass is good once, over restarts too.
CREATE TABLE used_passes (
    id    uuid PRIMARY KEY,
    until timestamptz NOT NULL
);

-- +goose Down
DROP TABLE past_feeds, used_passes, target_agreements;
ALTER TABLE targets ADD COLUMN agreed boolean NOT NULL DEFAULT false, DROP COLUMN takes, DROP COLUMN pin_taken, DROP COLUMN opened_under,
    DROP COLUMN opened_with;
DELETE FROM tries WHERE device_id IS NULL;
ALTER TABLE tries DROP COLUMN target_id, DROP COLUMN site_id, DROP COLUMN host, ALTER COLUMN device_id SET NOT NULL;
ALTER TABLE agreements DROP COLUMN in_clear;
