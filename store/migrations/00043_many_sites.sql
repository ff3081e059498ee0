-- +goose Up
-- Whose site it is, as its people write it; empty where nobody has said.
ALTER TABLE sites ADD COLUMN customer text NOT NULL DEFAULT '' CHECK (length(customer) <= 120);

-- site_workers says how many workers share the work of a site now. A paired worker is told so of its own sites.
-- +goose StatementBegin
CREATE FUNCTION site_workers(site uuid) RETURNS bigint LANGUAGE plpgsql STABLE SECURITY DEFINER SET search_path = public, pg_temp AS $$
BEGIN
    RETURN (SELECT count(*) FROM worker_sites WHERE site_id = site AND (far_worker() IS NULL OR site = ANY (far_sites())));
END $$;
-- +goose StatementEnd

-- The functions that follow say what they said before. A function in SQL is planned anew in every statement that calls it, which took
-- longer than most of the statements themselves; in PL/pgSQL a connection plans it once. far_queue stays in SQL: it becomes a part of the
-- statement that calls it, which so asks for the sites once and not for each job.
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION far_sites() RETURNS uuid[] LANGUAGE plpgsql STABLE SECURITY DEFINER SET search_path = public, pg_temp AS $$
BEGIN
    RETURN (SELECT COALESCE(array_agg(s.site_id), '{}') FROM paired_sites s JOIN paired_workers w ON w.id = s.worker_id
        WHERE w.revoked_at IS NULL AND w.role = session_user);
END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION far_worker() RETURNS uuid LANGUAGE plpgsql STABLE SECURITY DEFINER SET search_path = public, pg_temp AS $$
BEGIN
    RETURN (SELECT id FROM paired_workers WHERE revoked_at IS NULL AND role = session_user);
END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION far_site(site uuid) RETURNS boolean LANGUAGE plpgsql STABLE SECURITY DEFINER
    SET search_path = public, pg_temp AS $$
BEGIN
    RETURN far_worker() IS NULL AND EXISTS (SELECT 1 FROM paired_sites s JOIN paired_workers w ON w.id = s.worker_id
        WHERE s.site_id = site AND w.revoked_at IS NULL);
END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION far_thing(thing uuid) RETURNS boolean LANGUAGE plpgsql STABLE SECURITY DEFINER
    SET search_path = public, pg_temp AS $$
BEGIN
    RETURN EXISTS (SELECT 1 FROM devices WHERE id = thing AND site_id = ANY (far_sites()))
        OR EXISTS (SELECT 1 FROM targets WHERE id = thing AND site_id = ANY (far_sites()));
END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION far_pace(device uuid) RETURNS boolean LANGUAGE plpgsql STABLE SECURITY DEFINER
    SET search_path = public, pg_temp AS $$
BEGIN
    RETURN (SELECT count(*) < 3000
        FROM (SELECT 1 FROM evidence WHERE device_id = device AND at > now() - interval '1 hour' LIMIT 3000) few);
END $$;
-- +goose StatementEnd

DROP TRIGGER evidence_words ON latest_evidence;
DROP TRIGGER device_words ON devices;
DROP FUNCTION device_has_words();
DROP FUNCTION words_of_devices(uuid[]);
-- words_of is what a record says of its device that it is found by.
-- +goose StatementBegin
CREATE FUNCTION words_of(kind text, body jsonb) RETURNS text[] LANGUAGE plpgsql IMMUTABLE AS $$
BEGIN
    RETURN CASE kind
        WHEN 'heard' THEN ARRAY[body->>'name', body->>'maker', body->>'hardware', body->>'serial', body->>'mac']
        WHEN 'signed_in' THEN ARRAY[body->'info'->>'manufacturer', body->'info'->>'model', body->'info'->>'serial']
    END;
END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION put_words(device uuid) RETURNS void LANGUAGE plpgsql SECURITY DEFINER SET search_path = public, pg_temp AS $$
BEGIN
    INSERT INTO device_words (device_id, words)
    SELECT d.id, lower(concat_ws(' ', d.name, d.addr, d.mac, d.serial, (
        SELECT string_agg(array_to_string(words_of(e.kind, e.body), ' '), ' ')
        FROM latest_evidence l JOIN evidence e ON e.id = l.evidence_id WHERE l.device_id = d.id AND l.kind IN ('heard', 'signed_in'))))
    FROM devices d WHERE d.id = device
    ON CONFLICT (device_id) DO UPDATE SET words = excluded.words WHERE device_words.words <> excluded.words;
END $$;
-- +goose StatementEnd
REVOKE EXECUTE ON FUNCTION put_words(uuid) FROM PUBLIC;
-- +goose StatementBegin
CREATE FUNCTION device_has_words() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER SET search_path = public, pg_temp AS $$
BEGIN
    PERFORM put_words(NEW.id);
    RETURN NULL;
END $$;
-- +goose StatementEnd
-- A record that says nothing new changes nothing: most do not. What a device says no longer goes when it next says something new.
-- +goose StatementBegin
CREATE FUNCTION evidence_has_words() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER SET search_path = public, pg_temp AS $$
BEGIN
    IF NOT EXISTS (SELECT 1 FROM device_words w JOIN evidence e ON e.id = NEW.evidence_id WHERE w.device_id = NEW.device_id
        AND NOT EXISTS (SELECT 1 FROM unnest(words_of(e.kind, e.body)) AS said WHERE position(lower(said) IN w.words) = 0)) THEN
        PERFORM put_words(NEW.device_id);
    END IF;
    RETURN NULL;
END $$;
-- +goose StatementEnd
-- They run at the end of the transaction, so that a device's row of words is always locked last. Otherwise one transaction that records a
-- finding (mark, then words) and one that renames the device (words, then mark) would wait for each other.
CREATE CONSTRAINT TRIGGER new_device_words AFTER INSERT ON devices DEFERRABLE INITIALLY DEFERRED
    FOR EACH ROW EXECUTE FUNCTION device_has_words();
CREATE CONSTRAINT TRIGGER device_words AFTER UPDATE ON devices DEFERRABLE INITIALLY DEFERRED
    FOR EACH ROW WHEN (concat_ws(' ', OLD.name, OLD.addr, OLD.mac, OLD.serial) <> concat_ws(' ', NEW.name, NEW.addr, NEW.mac, NEW.serial))
    EXECUTE FUNCTION device_has_words();
CREATE CONSTRAINT TRIGGER evidence_words AFTER INSERT OR UPDATE ON latest_evidence DEFERRABLE INITIALLY DEFERRED
    FOR EACH ROW WHEN (NEW.kind IN ('heard', 'signed_in')) EXECUTE FUNCTION evidence_has_words();

-- +goose Down
DROP TRIGGER evidence_words ON latest_evidence;
DROP TRIGGER device_words ON devices;
DROP TRIGGER new_device_words ON devices;
DROP FUNCTION evidence_has_words();
DROP FUNCTION device_has_words();
DROP FUNCTION put_words(uuid);
DROP FUNCTION words_of(text, jsonb);
-- +goose StatementBegin
CREATE FUNCTION words_of_devices(which uuid[]) RETURNS void LANGUAGE sql SECURITY DEFINER SET search_path = public, pg_temp AS $$
    INSERT INTO device_words (device_id, words)
    SELECT d.id, lower(concat_ws(' ', d.name, d.addr, d.mac, d.serial,
        (SELECT string_agg(concat_ws(' ', e.body->>'name', e.body->>'maker', e.body->>'hardware', e.body->>'serial', e.body->>'mac'), ' ')
            FROM latest_evidence l JOIN evidence e ON e.id = l.evidence_id WHERE l.device_id = d.id AND l.kind = 'heard'),
        (SELECT string_agg(concat_ws(' ', e.body->'info'->>'manufacturer', e.body->'info'->>'model', e.body->'info'->>'serial'), ' ')
            FROM latest_evidence l JOIN evidence e ON e.id = l.evidence_id WHERE l.device_id = d.id AND l.kind = 'signed_in')))
    FROM devices d WHERE d.id = ANY (which)
    ON CONFLICT (device_id) DO UPDATE SET words = excluded.words WHERE device_words.words <> excluded.words
$$;
-- +goose StatementEnd
REVOKE EXECUTE ON FUNCTION words_of_devices(uuid[]) FROM PUBLIC;
-- +goose StatementBegin
CREATE FUNCTION device_has_words() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER SET search_path = public, pg_temp AS $$
BEGIN
    PERFORM words_of_devices(ARRAY[CASE TG_TABLE_NAME WHEN 'devices' THEN (to_jsonb(NEW)->>'id')::uuid
        ELSE (to_jsonb(NEW)->>'device_id')::uuid END]);
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE CONSTRAINT TRIGGER device_words AFTER INSERT OR UPDATE OF name, addr, mac, serial ON devices DEFERRABLE INITIALLY DEFERRED
    FOR EACH ROW EXECUTE FUNCTION device_has_words();
CREATE CONSTRAINT TRIGGER evidence_words AFTER INSERT OR UPDATE ON latest_evidence DEFERRABLE INITIALLY DEFERRED
    FOR EACH ROW WHEN (NEW.kind IN ('heard', 'signed_in')) EXECUTE FUNCTION device_has_words();
DROP FUNCTION site_workers(uuid);
ALTER TABLE sites DROP COLUMN customer;
