-- +goose Up
-- page says that a relay is served to web pages as well. push is how it is sent to a live platform, null for not at all, and sealed_key that
-- platform's stream key, encrypted.
ALTER TABLE relays ADD COLUMN page boolean NOT NULL DEFAULT false,
    ADD COLUMN push jsonb,
    ADD COLUMN sealed_key bytea;
-- How sending to the platform goes: a state, since when, and what the platform says. camera_fps and camera_lost are what comes from the
-- camera meanwhile: pictures a second, and packets that were lost on the way.
ALTER TABLE relay_status ADD COLUMN push_state text NOT NULL DEFAULT '',
    ADD COLUMN push_since timestamptz,
    ADD COLUMN push_says text NOT NULL DEFAULT '',
    ADD COLUMN camera_fps double precision NOT NULL DEFAULT 0,
    ADD COLUMN camera_lost bigint NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE relay_status DROP COLUMN push_state, DROP COLUMN push_since, DROP COLUMN push_says, DROP COLUMN camera_fps,
    DROP COLUMN camera_lost;
ALTER TABLE relays DROP COLUMN page, DROP COLUMN push, DROP COLUMN sealed_key;
