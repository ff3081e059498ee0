-- +goose Up
-- A person's consent to connect to one stray at one address, for a limited time. Kept after it has ended: it is a record too.
CREATE TABLE consents (
    id         uuid PRIMARY KEY,
    device_id  uuid NOT NULL REFERENCES devices ON DELETE CASCADE,
    person_id  uuid REFERENCES people ON DELETE SET NULL,
    addr       text NOT NULL,
    reason     text NOT NULL,
    given_at   timestamptz NOT NULL DEFAULT now(),
    until      timestamptz NOT NULL
);
CREATE INDEX consents_device ON consents (device_id, until DESC);

-- +goose Down
DROP TABLE consents;
