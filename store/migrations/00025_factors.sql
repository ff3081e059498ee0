-- +goose Up

-- Second factors: what a person shows besides the password.
CREATE TABLE factors (
    id           uuid PRIMARY KEY,
    person_id    uuid NOT NULL REFERENCES people ON DELETE CASCADE,
    kind         text NOT NULL CHECK (kind IN ('code', 'passkey')),
    name         text NOT NULL,
    secret       bytea NOT NULL,            -- encrypted: the key of a code, or the credential of a passkey
    passkey      bytea UNIQUE,              -- the credential's ID
    step         bigint NOT NULL DEFAULT 0, -- of a code: the newest time step that was taken (RFC 6238 §5.2: each once)
    created_at   timestamptz NOT NULL DEFAULT now(),
    last_used_at timestamptz
);
CREATE INDEX factors_person ON factors (person_id);

CREATE TABLE recovery_codes (
    person_id uuid NOT NULL REFERENCES people ON DELETE CASCADE,
    hash      bytea NOT NULL,
    used_at   timestamptz,
    PRIMARY KEY (person_id, hash)
);

-- What was begun and waits for its second step: a sign-in whose password was right, a passkey that is being added, single sign-on.
CREATE TABLE ceremonies (
    hash       bytea PRIMARY KEY, -- SHA-256 of the token that the browser holds meanwhile
    purpose    text NOT NULL,
    person_id  uuid REFERENCES people ON DELETE CASCADE,
    state      bytea NOT NULL DEFAULT '', -- encrypted
    tries      int NOT NULL DEFAULT 0,
    expires_at timestamptz NOT NULL
);

-- The roles that must have a second factor.
CREATE TABLE strict_roles (role text PRIMARY KEY CHECK (role IN ('owner', 'engineer', 'technician', 'viewer', 'customer')));

-- Who a person is to the provider of single sign-on; NULL for an account of this server alone.
ALTER TABLE people ADD COLUMN issuer text, ADD COLUMN issuer_subject text;
CREATE UNIQUE INDEX people_issuer ON people (issuer, issuer_subject);

-- +goose Down
ALTER TABLE people DROP COLUMN issuer, DROP COLUMN issuer_subject;
DROP TABLE strict_roles, ceremonies, recovery_codes, factors;
