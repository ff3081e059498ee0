-- +goose Up

-- The record is append-only, and each line carries the hash of the one before: a line that was changed, taken out or slipped in shows. What a
-- line names may be gone one day, so that a line refers to nothing.
ALTER TABLE audit DROP CONSTRAINT audit_person_id_fkey;
ALTER TABLE audit
    ADD COLUMN token  text NOT NULL DEFAULT '', -- the name of the API token by which the person acted; empty for a browser
    ADD COLUMN number bigint,
    ADD COLUMN hash   bytea;

-- The newest line: whoever adds one holds this row until it is kept, so that numbers have no gaps and no two lines the same one before.
CREATE TABLE record_head (
    one    boolean PRIMARY KEY DEFAULT true CHECK (one),
    number bigint NOT NULL,
    hash   bytea NOT NULL
);
INSERT INTO record_head (number, hash) VALUES (0, decode(repeat('00', 32), 'hex'));

-- A field of a line as it is hashed: a netstring of its bytes, so that no two lines are hashed as the same. NULL is "-,".
CREATE FUNCTION record_field(field text) RETURNS text LANGUAGE sql IMMUTABLE AS
    $$ SELECT COALESCE(octet_length(field) || ':' || field, '-') || ',' $$;

-- The hash of a line after one with the hash before. store.Line.sum says the same in Go.
CREATE FUNCTION record_hash(before bytea, l audit) RETURNS bytea LANGUAGE sql STABLE AS $$
    SELECT sha256(before || convert_to(
        record_field(l.number::text) || record_field(l.id::text) || record_field((extract(epoch FROM l.at) * 1000000)::bigint::text)
        || record_field(l.person_id::text) || record_field(l.person) || record_field(l.token) || record_field(l.act)
        || record_field(l.action) || record_field(l.subject) || record_field(l.before) || record_field(l.after)
        || record_field(l.site_id::text) || record_field(l.site) || record_field(l.device_id::text) || record_field(l.device)
        || record_field(array_to_string(l.devices, ' ')) || record_field(l.target_id::text) || record_field(l.target), 'UTF8'))
$$;

-- +goose StatementBegin
CREATE FUNCTION chain_record() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE previous bytea;
BEGIN
    UPDATE record_head SET number = number + 1 RETURNING number, hash INTO NEW.number, previous;
    NEW.hash := record_hash(previous, NEW);
    UPDATE record_head SET hash = NEW.hash;
    RETURN NEW;
END $$;

CREATE FUNCTION record_is_append_only() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'the record of who did what is append-only';
END $$;

-- Lines of before get their hashes in the order in which they were written.
DO $$
DECLARE line audit; head record_head;
BEGIN
    SELECT * INTO head FROM record_head;
    FOR line IN SELECT * FROM audit ORDER BY at, id LOOP
        head.number := head.number + 1;
        line.number := head.number;
        head.hash := record_hash(head.hash, line);
        UPDATE audit SET number = head.number, hash = head.hash WHERE id = line.id;
    END LOOP;
    UPDATE record_head SET number = head.number, hash = head.hash;
END $$;
-- +goose StatementEnd

ALTER TABLE audit ALTER COLUMN number SET NOT NULL, ALTER COLUMN hash SET NOT NULL;
CREATE UNIQUE INDEX audit_number ON audit (number);
CREATE TRIGGER audit_chained BEFORE INSERT ON audit FOR EACH ROW EXECUTE FUNCTION chain_record();
CREATE TRIGGER audit_append_only BEFORE UPDATE OR DELETE ON audit FOR EACH ROW EXECUTE FUNCTION record_is_append_only();
CREATE TRIGGER audit_kept BEFORE TRUNCATE ON audit FOR EACH STATEMENT EXECUTE FUNCTION record_is_append_only();

-- What the record is filtered by. Text is looked for anywhere within what a line names.
CREATE EXTENSION IF NOT EXISTS pg_trgm;
ALTER TABLE audit ADD COLUMN words text GENERATED ALWAYS AS (lower((person || ' ' || token || ' ' || subject || ' ' || before || ' '
    || after || ' ' || site || ' ' || device || ' ' || target || ' ' || action) COLLATE "und-x-icu")) STORED; -- capitals of every script
CREATE INDEX audit_words ON audit USING gin (words gin_trgm_ops);
CREATE INDEX audit_person ON audit (person, number);
CREATE INDEX audit_act ON audit (act, number);
CREATE INDEX audit_site ON audit (site_id, number);

-- API tokens. A token is never wider than its maker: what it may do is worked out anew from both each time it is shown.
CREATE TABLE tokens (
    id           uuid PRIMARY KEY,
    person_id    uuid NOT NULL REFERENCES people ON DELETE CASCADE,
    hash         bytea NOT NULL UNIQUE, -- SHA-256: the table alone opens nothing
    name         text NOT NULL,
    start        text NOT NULL, -- its first characters, by which it is recognised
    role         text NOT NULL CHECK (role IN ('owner', 'engineer', 'technician', 'viewer', 'customer')),
    sites        uuid[], -- NULL for all that its maker is given
    created_at   timestamptz NOT NULL DEFAULT now(),
    expires_at   timestamptz NOT NULL,
    last_used_at timestamptz
);
CREATE INDEX tokens_person ON tokens (person_id);

-- +goose Down
DROP TABLE tokens;
DROP INDEX audit_words, audit_person, audit_act, audit_site, audit_number;
DROP TRIGGER audit_chained ON audit;
DROP TRIGGER audit_append_only ON audit;
DROP TRIGGER audit_kept ON audit;
DROP FUNCTION chain_record, record_is_append_only, record_hash, record_field;
ALTER TABLE audit DROP COLUMN words, DROP COLUMN token, DROP COLUMN number, DROP COLUMN hash;
DROP TABLE record_head;
