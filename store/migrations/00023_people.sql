-- +goose Up

-- The sites that a person is given. An owner has all of them and needs no rows here.
CREATE TABLE person_sites (
    person_id uuid NOT NULL REFERENCES people ON DELETE CASCADE,
    site_id   uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    PRIMARY KEY (person_id, site_id)
);
CREATE INDEX person_sites_site ON person_sites (site_id);

ALTER TABLE people ADD CONSTRAINT people_role CHECK (role IN ('owner', 'engineer', 'technician', 'viewer', 'customer'));
ALTER TABLE sessions
    ADD COLUMN id           uuid NOT NULL DEFAULT gen_random_uuid() UNIQUE,
    ADD COLUMN created_at   timestamptz NOT NULL DEFAULT now(),
    ADD COLUMN last_seen_at timestamptz NOT NULL DEFAULT now(),
    ADD COLUMN browser      text NOT NULL DEFAULT ''; -- the browser's own word, for the person to know it by

-- One-time links: of an invitation person_id is missing until it is taken, of a reset it is whose password is set anew.
CREATE TABLE links (
    id         uuid PRIMARY KEY,
    token_hash bytea NOT NULL UNIQUE, -- SHA-256: the table alone opens nothing
    person_id  uuid REFERENCES people ON DELETE CASCADE,
    name       text NOT NULL,
    role       text NOT NULL CHECK (role IN ('owner', 'engineer', 'technician', 'viewer', 'customer')),
    sites      uuid[] NOT NULL DEFAULT '{}',
    made_by    text NOT NULL,
    made_at    timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL,
    used_at    timestamptz
);

-- +goose Down
DROP TABLE links;
ALTER TABLE sessions DROP COLUMN id, DROP COLUMN created_at, DROP COLUMN last_seen_at, DROP COLUMN browser;
ALTER TABLE people DROP CONSTRAINT people_role;
DROP TABLE person_sites;
