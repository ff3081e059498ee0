-- +goose Up
-- What a paired worker is in the database: a role of its own, with its password encrypted by the key file. recipient is what data keys are
-- wrapped for (age, X25519), shared says that it holds the one of sign-ins that are for every site.
ALTER TABLE paired_workers ADD COLUMN role text UNIQUE, ADD COLUMN sealed bytea NOT NULL DEFAULT '', ADD COLUMN recipient text NOT NULL DEFAULT '',
    ADD COLUMN shared boolean NOT NULL DEFAULT false;
ALTER TABLE pairings ADD COLUMN recipient text NOT NULL DEFAULT '';
ALTER TABLE workers ADD COLUMN role text NOT NULL DEFAULT session_user;
ALTER TABLE processes ADD COLUMN role text NOT NULL DEFAULT session_user;

-- Sign-ins of a site are encrypted with the site's data key, those for every site with one whose site_id is null. sealed is the data key,
-- encrypted by the key file; wrapped is it for a paired worker. key_id is null for what is encrypted by the key file itself.
CREATE TABLE data_keys (
    id         uuid PRIMARY KEY,
    site_id    uuid UNIQUE NULLS NOT DISTINCT REFERENCES sites ON DELETE CASCADE,
    sealed     bytea NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE wrapped_keys (
    key_id    uuid NOT NULL REFERENCES data_keys ON DELETE CASCADE ON UPDATE CASCADE,
    worker_id uuid NOT NULL REFERENCES paired_workers ON DELETE CASCADE,
    wrapped   bytea NOT NULL,
    PRIMARY KEY (key_id, worker_id)
);
ALTER TABLE sign_ins ADD COLUMN key_id uuid REFERENCES data_keys ON DELETE CASCADE ON UPDATE CASCADE;
ALTER TABLE relays ADD COLUMN key_id uuid REFERENCES data_keys ON DELETE CASCADE ON UPDATE CASCADE;
CREATE INDEX sign_ins_key ON sign_ins (key_id);
CREATE INDEX relays_key ON relays (key_id);
-- What a worker could read until it was revoked, or until its site was taken from it. changed_at of a sign-in says whether it is another one by now.
CREATE TABLE laid_open (
    worker_id uuid NOT NULL REFERENCES paired_workers ON DELETE CASCADE,
    kind      text NOT NULL CHECK (kind IN ('sign-in', 'relay')),
    thing     uuid NOT NULL,
    site_id   uuid,
    what      text NOT NULL,
    at        timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (worker_id, kind, thing)
);

-- Rows are kept from everybody but the owner of the tables, which is the server. A paired worker signs in as a role of its own and sees what
-- is of its sites: far_sites are those, whatever a session says of itself.
-- +goose StatementBegin
CREATE FUNCTION far_sites() RETURNS uuid[] LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp AS $$
    SELECT COALESCE(array_agg(s.site_id), '{}') FROM paired_sites s JOIN paired_workers w ON w.id = s.worker_id
    WHERE w.revoked_at IS NULL AND w.role = session_user
$$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION far_worker() RETURNS uuid LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp AS $$
    SELECT id FROM paired_workers WHERE revoked_at IS NULL AND role = session_user
$$;
-- +goose StatementEnd
-- far_site says whether a paired worker has a site; to paired workers it says nothing.
-- +goose StatementBegin
CREATE FUNCTION far_site(site uuid) RETURNS boolean LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp AS $$
    SELECT far_worker() IS NULL AND EXISTS (SELECT 1 FROM paired_sites s JOIN paired_workers w ON w.id = s.worker_id
        WHERE s.site_id = site AND w.revoked_at IS NULL)
$$;
-- +goose StatementEnd
-- far_thing says whether a device or a target is at a worker's sites.
-- +goose StatementBegin
CREATE FUNCTION far_thing(thing uuid) RETURNS boolean LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp AS $$
    SELECT EXISTS (SELECT 1 FROM devices WHERE id = thing AND site_id = ANY (far_sites()))
        OR EXISTS (SELECT 1 FROM targets WHERE id = thing AND site_id = ANY (far_sites()))
$$;
-- +goose StatementEnd
-- far_queue says whether jobs of a queue are a worker's.
-- +goose StatementBegin
CREATE FUNCTION far_queue(queue text) RETURNS boolean LANGUAGE sql STABLE AS $$
    SELECT queue LIKE 'site-%' AND substr(queue, 6, 36) = ANY ((SELECT far_sites()::text[])::text[])
$$;
-- +goose StatementEnd
-- far_pace bounds what a worker writes of one device: a real one comes to some hundred records an hour.
-- +goose StatementBegin
CREATE FUNCTION far_pace(device uuid) RETURNS boolean LANGUAGE sql STABLE SECURITY DEFINER
    SET search_path = public, pg_temp AS $$
    SELECT count(*) < 3000 FROM (SELECT 1 FROM evidence WHERE device_id = device AND at > now() - interval '1 hour' LIMIT 3000) few
$$;
-- +goose StatementEnd

-- +goose StatementBegin
DO $$
DECLARE
    t text;
    c record;
    anchor text;
    checks text;
BEGIN
    FOR t IN SELECT relname FROM pg_class WHERE relnamespace = 'public'::regnamespace AND relkind IN ('r', 'p') AND NOT relispartition
        AND relname NOT LIKE 'river%' LOOP
        EXECUTE format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', t);
        anchor := CASE
            WHEN t IN ('agreements', 'attested', 'baselines', 'device_marks', 'devices', 'drifts', 'expected', 'mends', 'plans', 'relays', 'runs',
                'spans', 'storms', 'targets', 'tries', 'waivers', 'watched', 'site_plans', 'audit', 'person_sites')
                THEN 'site_id = ANY ((SELECT far_sites())::uuid[])'
            WHEN t = 'sites' THEN 'id = ANY ((SELECT far_sites())::uuid[])'
            WHEN t = 'worker_sites' THEN 'worker IN (SELECT name FROM workers) AND site_id = ANY ((SELECT far_sites())::uuid[])'
            WHEN t IN ('workers', 'processes') THEN 'role = session_user'
            WHEN t IN ('consents', 'device_plans', 'evidence', 'latest_evidence', 'stills', 'stream_roles', 'views', 'wanted_placements',
                'site_plan_marks')
                THEN format('EXISTS (SELECT 1 FROM devices d WHERE d.id = %I.device_id)', t)
            WHEN t IN ('feed_screens', 'past_feeds', 'target_agreements', 'target_seen')
                THEN format('EXISTS (SELECT 1 FROM targets x WHERE x.id = %I.target_id)', t)
            WHEN t = 'relay_status' THEN 'EXISTS (SELECT 1 FROM relays r WHERE r.id = relay_status.relay_id)'
            WHEN t IN ('measures_minute', 'measures_quarter', 'measures_hour') THEN 'far_thing(thing)'
            WHEN t = 'sign_in_devices' THEN 'EXISTS (SELECT 1 FROM devices d WHERE d.id = sign_in_devices.device_id)'
            WHEN t = 'sign_ins' THEN -- those that it opens, and of these the ones that are for what it sees
                'EXISTS (SELECT 1 FROM wrapped_keys k WHERE k.key_id = sign_ins.key_id) AND (site_id IS NULL AND NOT bound OR
                site_id = ANY ((SELECT far_sites())::uuid[]) OR EXISTS (SELECT 1 FROM sign_in_devices b WHERE b.sign_in_id = sign_ins.id))'
            WHEN t = 'wrapped_keys' THEN 'worker_id = (SELECT far_worker())'
            WHEN t IN ('books', 'path_books', 'keeping_rule', 'goose_db_version') THEN 'true'
        END;
        CONTINUE WHEN anchor IS NULL; -- none of its rows is for a worker
        checks := anchor;
        FOR c IN SELECT a.attname AS col, r.relname AS ref FROM pg_constraint k JOIN pg_class r ON r.oid = k.confrelid
            JOIN pg_attribute a ON a.attrelid = k.conrelid AND a.attnum = k.conkey[1]
            WHERE k.contype = 'f' AND k.conrelid = t::regclass AND cardinality(k.conkey) = 1
            AND k.confrelid <> k.conrelid
            AND r.relname IN ('devices', 'targets', 'runs', 'sign_ins', 'relays', 'drifts', 'evidence', 'plans', 'site_plans') ORDER BY a.attname LOOP
            checks := format('(%s) AND (%I IS NULL OR EXISTS (SELECT 1 FROM %I ref WHERE ref.id = %I.%I))', checks, c.col, c.ref, t, c.col);
        END LOOP;
        checks := checks || CASE
            WHEN t = 'devices' THEN ' AND (via IS NULL OR far_thing(via))'
            WHEN t = 'targets' THEN ' AND (via_id IS NULL OR far_thing(via_id))'
            WHEN t IN ('watched', 'spans') THEN ' AND far_thing(thing)'
            WHEN t = 'wanted_placements' THEN ' AND far_thing(target_id)'
            WHEN t = 'evidence' THEN ' AND at < now() + interval ''10 minutes'' AND octet_length(body::text) <= 1048576
                AND octet_length(exchange) <= 4194304 AND far_pace(device_id)'
            WHEN t = 'target_seen' THEN ' AND at < now() + interval ''10 minutes'' AND COALESCE(octet_length(diagnosis::text), 0) <= 1048576
                AND octet_length(exchange) <= 4194304'
            WHEN t = 'stills' THEN ' AND octet_length(jpeg) <= 8388608'
            ELSE '' END;
        EXECUTE format('CREATE POLICY far ON %I USING (%s) WITH CHECK (%s)', t, anchor, checks);
    END LOOP;
END $$;
-- +goose StatementEnd

-- What triggers write is not the worker's to write.
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION chain_record() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER SET search_path = public, pg_temp AS $$
DECLARE
    previous bytea;
    worker text;
BEGIN
    -- A line that a paired worker writes says which one that is, whoever it names.
    SELECT name INTO worker FROM paired_workers WHERE role = session_user;
    IF worker IS NOT NULL THEN
        NEW.token := concat_ws(', ', NULLIF(NEW.token, ''), worker);
        NEW.at := now();
    END IF;
    UPDATE record_head SET number = number + 1 RETURNING number, hash INTO NEW.number, previous;
    NEW.hash := record_hash(previous, NEW);
    UPDATE record_head SET hash = NEW.hash;
    RETURN NEW;
END $$;
-- +goose StatementEnd
ALTER FUNCTION evidence_is_latest() SECURITY DEFINER;
ALTER FUNCTION evidence_is_latest() SET search_path = public, pg_temp;
ALTER FUNCTION mark_new_device() SECURITY DEFINER;
ALTER FUNCTION mark_new_device() SET search_path = public, pg_temp;

-- What crosses sites, or needs rights of the owner, workers do by functions.
-- +goose StatementBegin
CREATE FUNCTION ensure_measures(resolution text, name text, from_day date, to_day date) RETURNS void LANGUAGE plpgsql SECURITY DEFINER
    SET search_path = public, pg_temp AS $$
BEGIN
    IF resolution NOT IN ('minute', 'quarter', 'hour') OR name !~ ('^measures_' || resolution || '_[0-9_]+$') OR to_day <= from_day
        OR abs(from_day - current_date) > 800 OR to_day - from_day > 366 THEN
        RAISE EXCEPTION 'no partition of measures';
    END IF;
    PERFORM pg_advisory_xact_lock(hashtextextended('measures', 26));
    EXECUTE format('CREATE TABLE IF NOT EXISTS %I PARTITION OF %I FOR VALUES FROM (%L) TO (%L)', name, 'measures_' || resolution,
        from_day || '+00', to_day || '+00');
END $$;
-- +goose StatementEnd
-- rounds_person is who has said how a site is watched, in whose name the watch mends.
-- +goose StatementBegin
CREATE FUNCTION rounds_person(site uuid) RETURNS TABLE (id uuid, name text, role text, sites json, bare boolean)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp AS $$
    SELECT p.id, p.name, p.role, (SELECT COALESCE(json_agg(g.site_id ORDER BY g.site_id), '[]') FROM person_sites g WHERE g.person_id = p.id
            AND (far_worker() IS NULL OR g.site_id = ANY (far_sites()))),
        p.issuer IS NULL AND EXISTS (SELECT 1 FROM strict_roles r WHERE r.role = p.role)
            AND NOT EXISTS (SELECT 1 FROM factors f WHERE f.person_id = p.id)
    FROM people p JOIN sites s ON s.rounds_by = p.id WHERE s.id = site AND (far_worker() IS NULL OR s.id = ANY (far_sites()))
$$;
-- +goose StatementEnd

-- +goose Down
DROP FUNCTION rounds_person(uuid);
DROP FUNCTION ensure_measures(text, text, date, date);
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION chain_record() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE previous bytea;
BEGIN
    UPDATE record_head SET number = number + 1 RETURNING number, hash INTO NEW.number, previous;
    NEW.hash := record_hash(previous, NEW);
    UPDATE record_head SET hash = NEW.hash;
    RETURN NEW;
END $$;
-- +goose StatementEnd
ALTER FUNCTION chain_record() SECURITY INVOKER;
ALTER FUNCTION chain_record() RESET ALL;
ALTER FUNCTION evidence_is_latest() SECURITY INVOKER;
ALTER FUNCTION evidence_is_latest() RESET ALL;
ALTER FUNCTION mark_new_device() SECURITY INVOKER;
ALTER FUNCTION mark_new_device() RESET ALL;
-- +goose StatementBegin
DO $$
DECLARE p record;
BEGIN
    FOR p IN SELECT tablename, policyname FROM pg_policies WHERE schemaname = 'public' AND policyname IN ('far', 'far_looks') LOOP
        EXECUTE format('DROP POLICY %I ON %I', p.policyname, p.tablename);
    END LOOP;
    FOR p IN SELECT relname FROM pg_class WHERE relnamespace = 'public'::regnamespace AND relrowsecurity LOOP
        EXECUTE format('ALTER TABLE %I DISABLE ROW LEVEL SECURITY', p.relname);
    END LOOP;
END $$;
-- +goose StatementEnd
DROP FUNCTION IF EXISTS far_never_leads() CASCADE; -- of the queue
DROP FUNCTION far_pace(uuid);
DROP FUNCTION far_queue(text);
DROP FUNCTION far_thing(uuid);
DROP FUNCTION far_site(uuid);
DROP FUNCTION far_worker();
DROP FUNCTION far_sites();
DROP TABLE laid_open;
ALTER TABLE relays DROP COLUMN key_id;
ALTER TABLE sign_ins DROP COLUMN key_id;
DROP TABLE wrapped_keys;
DROP TABLE data_keys;
ALTER TABLE processes DROP COLUMN role;
ALTER TABLE workers DROP COLUMN role;
ALTER TABLE pairings DROP COLUMN recipient;
ALTER TABLE paired_workers DROP COLUMN role, DROP COLUMN sealed, DROP COLUMN recipient, DROP COLUMN shared;
