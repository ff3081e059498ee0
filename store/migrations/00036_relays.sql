-- +goose Up
-- Streams that are served on by workers. sealed is the password of user_name, encrypted; it opens this stream and nothing else.
CREATE TABLE relays (
    id         uuid PRIMARY KEY,
    site_id    uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    device_id  uuid NOT NULL REFERENCES devices ON DELETE CASCADE,
    role       text NOT NULL,
    path       text NOT NULL UNIQUE,
    user_name  text NOT NULL,
    sealed     bytea NOT NULL,
    for_whom   text NOT NULL DEFAULT '',
    always     boolean NOT NULL DEFAULT false,
    most       integer NOT NULL DEFAULT 0,
    made_by    text NOT NULL DEFAULT '',
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX relays_site ON relays (site_id);
CREATE INDEX relays_device ON relays (device_id);
-- How each goes at the worker that serves it, as that told last.
CREATE TABLE relay_status (
    relay_id uuid PRIMARY KEY REFERENCES relays ON DELETE CASCADE,
    takers   integer NOT NULL,
    packets  bigint NOT NULL,
    lost     bigint NOT NULL,
    problem  text NOT NULL,
    at       timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE relay_status;
DROP TABLE relays;
