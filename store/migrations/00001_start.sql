-- +goose Up
CREATE TABLE people (
    id            uuid PRIMARY KEY,
    name          text NOT NULL UNIQUE,
    password_hash text NOT NULL,
    created_at    timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE sessions (
    token_hash bytea PRIMARY KEY, -- SHA-256 of the cookie: the table alone opens nothing
    person_id  uuid NOT NULL REFERENCES people ON DELETE CASCADE,
    expires_at timestamptz NOT NULL
);

CREATE TABLE sites (
    id         uuid PRIMARY KEY,
    name       text NOT NULL,
    ranges     text[] NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);

-- A device's identity and the name that a person gave it. How it stands is derived from evidence.
CREATE TABLE devices (
    id         uuid PRIMARY KEY,
    site_id    uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    endpoint   text,
    addr       text NOT NULL,
    name       text,
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX devices_endpoint ON devices (site_id, endpoint);
CREATE INDEX devices_addr ON devices (site_id, addr);

CREATE TABLE runs (
    id         uuid PRIMARY KEY,
    site_id    uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    kind       text NOT NULL,
    title      text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    stopped_at timestamptz,
    doing      text NOT NULL DEFAULT '', -- what it does now; a courtesy to the reader, derived from nothing
    done       bigint NOT NULL DEFAULT 0,
    total      bigint NOT NULL DEFAULT 0,
    problem    text NOT NULL DEFAULT ''
);
CREATE INDEX runs_site ON runs (site_id, created_at DESC);

CREATE TABLE evidence (
    id        uuid PRIMARY KEY,
    device_id uuid NOT NULL REFERENCES devices ON DELETE CASCADE,
    run_id    uuid REFERENCES runs ON DELETE SET NULL,
    at        timestamptz NOT NULL,
    kind      text NOT NULL,
    subject   text NOT NULL DEFAULT '',
    body      jsonb NOT NULL,
    exchange  text NOT NULL DEFAULT ''
);
CREATE INDEX evidence_latest ON evidence (device_id, kind, subject, at DESC, id DESC);

-- Evidence is append-only: what was seen stays as it was seen.
-- +goose StatementBegin
CREATE FUNCTION evidence_is_append_only() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF NEW.id IS DISTINCT FROM OLD.id OR NEW.device_id IS DISTINCT FROM OLD.device_id OR NEW.at IS DISTINCT FROM OLD.at
        OR NEW.kind IS DISTINCT FROM OLD.kind OR NEW.subject IS DISTINCT FROM OLD.subject
        OR NEW.body IS DISTINCT FROM OLD.body OR NEW.exchange IS DISTINCT FROM OLD.exchange THEN
        RAISE EXCEPTION 'evidence is append-only';
    END IF;
    RETURN NEW;
END $$;
-- +goose StatementEnd
CREATE TRIGGER evidence_append_only BEFORE UPDATE ON evidence FOR EACH ROW EXECUTE FUNCTION evidence_is_append_only();

CREATE TABLE stills (
    id        uuid PRIMARY KEY,
    device_id uuid NOT NULL REFERENCES devices ON DELETE CASCADE,
    jpeg      bytea NOT NULL
);

CREATE TABLE sign_ins (
    id         uuid PRIMARY KEY,
    label      text NOT NULL,
    user_name  text NOT NULL,
    sealed     bytea NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    changed_at timestamptz NOT NULL DEFAULT now()
);

-- Tries are kept for all workers and over restarts, so that no race between two of them locks a device.
CREATE TABLE tries (
    id         uuid PRIMARY KEY,
    device_id  uuid NOT NULL REFERENCES devices ON DELETE CASCADE,
    sign_in_id uuid NOT NULL REFERENCES sign_ins ON DELETE CASCADE,
    at         timestamptz NOT NULL DEFAULT now(),
    result     text NOT NULL DEFAULT 'pending' -- pending counts as refused until it is known
);
CREATE INDEX tries_device ON tries (device_id, at DESC);

CREATE TABLE wanted_placements (
    device_id  uuid NOT NULL REFERENCES devices ON DELETE CASCADE,
    target_id  uuid NOT NULL REFERENCES devices ON DELETE CASCADE,
    created_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (device_id, target_id)
);

CREATE TABLE audit (
    id        uuid PRIMARY KEY,
    at        timestamptz NOT NULL DEFAULT now(),
    person_id uuid REFERENCES people ON DELETE SET NULL,
    action    text NOT NULL,
    subject   text NOT NULL
);

-- +goose Down
DROP TABLE audit, wanted_placements, tries, sign_ins, stills, evidence, runs, devices, sites, sessions, people;
DROP FUNCTION evidence_is_append_only;
