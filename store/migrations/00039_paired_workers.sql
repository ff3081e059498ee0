-- +goose Up
-- Workers at sites that know the server by one connection which they open, each by a key of its own. seen_at is when one was heard last,
-- delay_ms how long an answer of it took then. twice_from is from where somebody else used its key while it was connected.
CREATE TABLE paired_workers (
    id           uuid PRIMARY KEY,
    name         text NOT NULL,
    public_key   bytea NOT NULL UNIQUE,
    machine      text NOT NULL DEFAULT '',
    version      text NOT NULL DEFAULT '',
    made_by      text NOT NULL DEFAULT '',
    made_at      timestamptz NOT NULL DEFAULT now(),
    revoked_at   timestamptz,
    revoked_by   text NOT NULL DEFAULT '',
    seen_at      timestamptz,
    from_address text NOT NULL DEFAULT '',
    delay_ms     double precision NOT NULL DEFAULT 0,
    twice_at     timestamptz,
    twice_from   text NOT NULL DEFAULT ''
);
CREATE TABLE paired_sites (
    worker_id uuid NOT NULL REFERENCES paired_workers ON DELETE CASCADE,
    site_id   uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    PRIMARY KEY (worker_id, site_id)
);
CREATE INDEX paired_sites_site ON paired_sites (site_id);
-- Machines that have asked to be paired and wait for somebody to type their code. Both are known by their SHA-256.
CREATE TABLE pairings (
    token_hash   bytea PRIMARY KEY,
    code_hash    bytea NOT NULL UNIQUE,
    public_key   bytea NOT NULL,
    machine      text NOT NULL,
    version      text NOT NULL,
    from_address text NOT NULL,
    until        timestamptz NOT NULL,
    worker_id    uuid REFERENCES paired_workers ON DELETE CASCADE
);

-- +goose Down
DROP TABLE pairings;
DROP TABLE paired_sites;
DROP TABLE paired_workers;
