-- +goose Up
-- What a device is found by, in small letters: what it is called, where it is, its marks, and what it says of itself. It follows the
-- device and its evidence by itself, so that a search over all sites reads one narrow table.
CREATE TABLE device_words (
    device_id uuid PRIMARY KEY REFERENCES devices ON DELETE CASCADE,
    words     text NOT NULL
);
ALTER TABLE device_words ENABLE ROW LEVEL SECURITY;

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
-- Both run at the end of the transaction, so that a device's row of words is always locked last. Otherwise one transaction that records a
-- finding (mark, then words) and one that renames the device (words, then mark) would wait for each other.
CREATE CONSTRAINT TRIGGER device_words AFTER INSERT OR UPDATE OF name, addr, mac, serial ON devices DEFERRABLE INITIALLY DEFERRED
    FOR EACH ROW EXECUTE FUNCTION device_has_words();
CREATE CONSTRAINT TRIGGER evidence_words AFTER INSERT OR UPDATE ON latest_evidence DEFERRABLE INITIALLY DEFERRED
    FOR EACH ROW WHEN (NEW.kind IN ('heard', 'signed_in')) EXECUTE FUNCTION device_has_words();

SELECT words_of_devices(ARRAY(SELECT id FROM devices));

-- +goose Down
DROP TRIGGER evidence_words ON latest_evidence;
DROP TRIGGER device_words ON devices;
DROP FUNCTION device_has_words();
DROP FUNCTION words_of_devices(uuid[]);
DROP TABLE device_words;
