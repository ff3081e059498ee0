-- +goose Up
-- Targets that stand by themselves: who signs in to them, how they are set up, and what they last said of themselves.
ALTER TABLE targets
    ADD COLUMN sign_in_id uuid REFERENCES sign_ins ON DELETE SET NULL,
    ADD COLUMN settings jsonb NOT NULL DEFAULT '{}',
    ADD COLUMN via_id uuid REFERENCES targets ON DELETE SET NULL, -- the recorder that it is reached by way of
    ADD COLUMN shared boolean NOT NULL DEFAULT false, -- other sites may use it too
    ADD COLUMN agreed boolean NOT NULL DEFAULT false, -- its sign-in may go out so that it can be read
    ADD COLUMN refused_id uuid, -- the sign-in that it has refused
    ADD COLUMN pin text NOT NULL DEFAULT '',
    ADD COLUMN about jsonb,  -- what it last said of itself; a courtesy: target_seen is the record
    ADD COLUMN layout jsonb, -- its slots as they last were
    ADD COLUMN seen_at timestamptz,
    ADD COLUMN feed_hash bytea UNIQUE, -- SHA-256 of a feed's token: the table alone opens nothing
    ADD COLUMN feed_sealed bytea,      -- the token, encrypted, to show it again
    ADD COLUMN listed_at timestamptz NOT NULL DEFAULT now(); -- when what stands on it last changed

-- What targets have said, each time. It is added to and never changed.
CREATE TABLE target_seen (
    id        uuid PRIMARY KEY,
    target_id uuid NOT NULL REFERENCES targets ON DELETE CASCADE,
    run_id    uuid REFERENCES runs ON DELETE SET NULL,
    at        timestamptz NOT NULL DEFAULT now(),
    what      text NOT NULL,
    diagnosis jsonb,
    exchange  text NOT NULL DEFAULT ''
);
CREATE INDEX target_seen_latest ON target_seen (target_id, at DESC);

-- Who takes the list of a feed.
CREATE TABLE feed_screens (
    target_id uuid NOT NULL REFERENCES targets ON DELETE CASCADE,
    name      text NOT NULL,
    address   text NOT NULL,
    format    text NOT NULL DEFAULT '',
    fetched   timestamptz NOT NULL DEFAULT now(),
    times     bigint NOT NULL DEFAULT 0,
    showing   jsonb NOT NULL DEFAULT '[]',
    PRIMARY KEY (target_id, name, address)
);

-- Where exactly a camera is wanted.
ALTER TABLE wanted_placements
    ADD COLUMN slot text NOT NULL DEFAULT '', -- the target's own name of it; empty for the first free one
    ADD COLUMN role text NOT NULL DEFAULT '', -- the stream; empty for the rule's own choice
    ADD COLUMN place double precision NOT NULL DEFAULT 0; -- order on a list of ours

-- +goose Down
ALTER TABLE wanted_placements DROP COLUMN slot, DROP COLUMN role, DROP COLUMN place;
DROP TABLE feed_screens, target_seen;
ALTER TABLE targets DROP COLUMN sign_in_id, DROP COLUMN settings, DROP COLUMN via_id, DROP COLUMN shared, DROP COLUMN agreed,
    DROP COLUMN refused_id, DROP COLUMN pin, DROP COLUMN about, DROP COLUMN layout, DROP COLUMN seen_at, DROP COLUMN feed_hash,
    DROP COLUMN feed_sealed, DROP COLUMN listed_at;
