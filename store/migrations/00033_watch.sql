-- +goose Up
-- How a site is watched, and by whose word.
ALTER TABLE sites ADD COLUMN rounds jsonb, ADD COLUMN rounds_by uuid REFERENCES people ON DELETE SET NULL;
-- Whether a baseline is of the whole site: what was agreed on before it counts no more.
ALTER TABLE baselines ADD COLUMN whole boolean NOT NULL DEFAULT false;

-- What is looked at in rounds: when next, and what the last look cost. thing is a device, or a target where target is set.
CREATE TABLE watched (
    thing      uuid NOT NULL,
    target     boolean NOT NULL,
    site_id    uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    round_s    integer NOT NULL,
    due        timestamptz NOT NULL,
    full_due   timestamptz NOT NULL,
    looked_at  timestamptz,
    before_at  timestamptz, -- the look before the last
    full_at    timestamptz,
    state      text NOT NULL DEFAULT '',
    doubt      integer NOT NULL DEFAULT 0, -- looks in a row that found a target without what it had
    requests   integer NOT NULL DEFAULT 0,
    bytes      bigint NOT NULL DEFAULT 0,
    sessions   integer NOT NULL DEFAULT 0,
    took_ms    integer NOT NULL DEFAULT 0,
    PRIMARY KEY (thing, target)
);
CREATE INDEX watched_due ON watched (due);
CREATE INDEX watched_site ON watched (site_id);

-- Times over which every look found the same.
CREATE TABLE spans (
    thing   uuid NOT NULL,
    site_id uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    state   text NOT NULL,
    from_at timestamptz NOT NULL,
    to_at   timestamptz NOT NULL,
    PRIMARY KEY (thing, from_at)
);
CREATE INDEX spans_site ON spans (site_id, to_at);

-- How a site differs from what was agreed on: from the look that first showed it to the one that showed that it was over.
CREATE TABLE drifts (
    id         uuid PRIMARY KEY,
    site_id    uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    device_id  uuid REFERENCES devices ON DELETE CASCADE,
    target_id  uuid REFERENCES targets ON DELETE CASCADE, -- of one that is about a target and no device
    cause      text NOT NULL,
    subject    text NOT NULL DEFAULT '',
    body       jsonb NOT NULL,
    after_at   timestamptz,
    before_at  timestamptz NOT NULL,
    ended_at   timestamptz,
    flaps      integer NOT NULL DEFAULT 0,
    put_off    timestamptz,
    put_off_by text NOT NULL DEFAULT '',
    told_at    timestamptz,
    ended_told timestamptz
);
CREATE INDEX drifts_site ON drifts (site_id, ended_at);
CREATE INDEX drifts_device ON drifts (device_id, before_at DESC);
CREATE UNIQUE INDEX drifts_lasting ON drifts (COALESCE(device_id, target_id), cause, subject) WHERE ended_at IS NULL;

-- The views that a camera is known by, by the part of the day.
CREATE TABLE views (
    device_id uuid NOT NULL REFERENCES devices ON DELETE CASCADE,
    part      smallint NOT NULL,
    form      jsonb NOT NULL,
    PRIMARY KEY (device_id, part)
);

-- Repairs that the watch has begun by itself.
CREATE TABLE mends (
    drift_id uuid NOT NULL REFERENCES drifts ON DELETE CASCADE,
    site_id  uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    repair   text NOT NULL,
    at       timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX mends_site ON mends (site_id, at);

-- What was measured, thinned: minutes for a week, quarters of an hour for a quarter, hours for five years. Each is partitioned by time, and
-- a partition is dropped as a whole.
CREATE TABLE measures_minute (
    thing uuid NOT NULL, what text NOT NULL, at timestamptz NOT NULL,
    n integer NOT NULL, sum double precision NOT NULL, least real NOT NULL, most real NOT NULL,
    PRIMARY KEY (thing, what, at)
) PARTITION BY RANGE (at);
CREATE TABLE measures_quarter (LIKE measures_minute INCLUDING ALL) PARTITION BY RANGE (at);
CREATE TABLE measures_hour (LIKE measures_minute INCLUDING ALL) PARTITION BY RANGE (at);

-- The latest evidence of each device, kind and subject, so that nothing that is derived reads history.
CREATE TABLE latest_evidence (
    device_id   uuid NOT NULL REFERENCES devices ON DELETE CASCADE,
    kind        text NOT NULL,
    subject     text NOT NULL,
    evidence_id uuid NOT NULL REFERENCES evidence ON DELETE CASCADE,
    at          timestamptz NOT NULL,
    PRIMARY KEY (device_id, kind, subject)
);
CREATE INDEX latest_evidence_record ON latest_evidence (evidence_id);
INSERT INTO latest_evidence SELECT DISTINCT ON (device_id, kind, subject) device_id, kind, subject, id, at FROM evidence
    ORDER BY device_id, kind, subject, at DESC, id DESC;
-- +goose StatementBegin
CREATE FUNCTION evidence_is_latest() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO latest_evidence AS l VALUES (NEW.device_id, NEW.kind, NEW.subject, NEW.id, NEW.at)
        ON CONFLICT (device_id, kind, subject) DO UPDATE SET evidence_id = excluded.evidence_id, at = excluded.at
        WHERE (l.at, l.evidence_id) < (excluded.at, excluded.evidence_id);
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER evidence_latest AFTER INSERT ON evidence FOR EACH ROW EXECUTE FUNCTION evidence_is_latest();

-- Exchanges of what went well are forgotten after a while; all else of a record stays as it was seen.
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION evidence_is_append_only() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF NEW.id IS DISTINCT FROM OLD.id OR NEW.device_id IS DISTINCT FROM OLD.device_id OR NEW.at IS DISTINCT FROM OLD.at
        OR NEW.kind IS DISTINCT FROM OLD.kind OR NEW.subject IS DISTINCT FROM OLD.subject
        OR NEW.body IS DISTINCT FROM OLD.body OR NEW.exchange IS DISTINCT FROM OLD.exchange AND NEW.exchange <> '' THEN
        RAISE EXCEPTION 'evidence is append-only';
    END IF;
    RETURN NEW;
END $$;
-- +goose StatementEnd
CREATE INDEX evidence_old_exchanges ON evidence (at) WHERE exchange <> '';

-- Who is told what, and how that goes. sealed is what a way of telling wants kept secret, encrypted.
CREATE TABLE tell_rules (
    id         uuid PRIMARY KEY,
    site_id    uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    form       jsonb NOT NULL,
    sealed     bytea,
    created_at timestamptz NOT NULL DEFAULT now(),
    off        text NOT NULL DEFAULT '', -- why nothing is told any more
    acts       bigint NOT NULL DEFAULT 0, -- the record's line up to which acts were told
    digest_at  timestamptz
);
CREATE INDEX tell_rules_site ON tell_rules (site_id);
-- What a rule was told of each drift.
CREATE TABLE told (
    rule_id  uuid NOT NULL REFERENCES tell_rules ON DELETE CASCADE,
    drift_id uuid NOT NULL REFERENCES drifts ON DELETE CASCADE,
    flaps    integer NOT NULL,
    ended    boolean NOT NULL,
    PRIMARY KEY (rule_id, drift_id)
);
CREATE TABLE tellings (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    rule_id   uuid NOT NULL REFERENCES tell_rules ON DELETE CASCADE,
    site_id   uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    body      jsonb NOT NULL,
    made_at   timestamptz NOT NULL DEFAULT now(),
    tries     integer NOT NULL DEFAULT 0,
    next_at   timestamptz NOT NULL DEFAULT now(),
    done_at   timestamptz,
    given_up  boolean NOT NULL DEFAULT false,
    problem   text NOT NULL DEFAULT ''
);
CREATE INDEX tellings_waiting ON tellings (rule_id, id) WHERE done_at IS NULL AND NOT given_up;

-- How long the past is kept; no row for the usual rule.
CREATE TABLE keeping_rule (one boolean PRIMARY KEY DEFAULT true CHECK (one), form jsonb NOT NULL);

-- +goose Down
DROP TABLE keeping_rule;
DROP TABLE tellings;
DROP TABLE told;
DROP TABLE tell_rules;
DROP INDEX evidence_old_exchanges;
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION evidence_is_append_only() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF NEW.id IS DISTINCT FROM OLD.id OR NEW.device_id IS DISTINCT FROM OLD.device_id OR NEW.at IS DISTINCT FROM OLD.at
        OR NEW.kind IS DISTINCT FROM OLD.kind OR NEW.subject IS DISTINCT FROM OLD.subject
        OR NEW.body IS DISTINCT FROM OLD.body OR NEW.exchange IS DISTINCT FROM OLD.exchange THEN
        RAISE EXCEPTION 'evidence is append-only';
    END IF;
    RETURN NEW;
END $$;
-- +goose StatementEnd
DROP TRIGGER evidence_latest ON evidence;
DROP FUNCTION evidence_is_latest;
DROP TABLE latest_evidence;
DROP TABLE measures_hour;
DROP TABLE measures_quarter;
DROP TABLE measures_minute;
DROP TABLE mends;
DROP TABLE views;
DROP TABLE drifts;
DROP TABLE spans;
DROP TABLE watched;
ALTER TABLE baselines DROP COLUMN whole;
ALTER TABLE sites DROP COLUMN rounds_by, DROP COLUMN rounds;
