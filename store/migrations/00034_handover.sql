-- +goose Up
-- The firm whose papers these are: one row at most.
CREATE TABLE firm (
    one       boolean PRIMARY KEY DEFAULT true CHECK (one),
    name      text NOT NULL DEFAULT '',
    mark      bytea,
    checklist text NOT NULL DEFAULT '' -- YAML; '' for that of the product
);
ALTER TABLE firm ALTER COLUMN mark SET STORAGE EXTERNAL;
ALTER TABLE sites ADD COLUMN checklist text NOT NULL DEFAULT ''; -- YAML; '' for the firm's

-- Findings that somebody hands over all the same. thing is a device, a target, or the site.
CREATE TABLE waivers (
    site_id uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    cause   text NOT NULL,
    thing   uuid NOT NULL,
    by      text NOT NULL,
    at      timestamptz NOT NULL DEFAULT now(),
    reason  text NOT NULL,
    PRIMARY KEY (site_id, cause, thing)
);

-- Items of a checklist that people say are done.
CREATE TABLE attested (
    site_id uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    item    text NOT NULL,
    by      text NOT NULL,
    at      timestamptz NOT NULL DEFAULT now(),
    note    text NOT NULL DEFAULT '',
    PRIMARY KEY (site_id, item)
);

-- Versions of handover packs. One with a manifest is made, and is not changed any more.
CREATE TABLE handovers (
    id         uuid PRIMARY KEY,
    site_id    uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    number     integer NOT NULL,
    made_by    text NOT NULL,
    person_id  uuid,
    made_at    timestamptz NOT NULL DEFAULT now(),
    form       jsonb NOT NULL,            -- how it is to be made
    passphrase bytea,                     -- encrypted; gone once the version is made or has failed
    failed     text NOT NULL DEFAULT '',  -- why it could not be made
    manifest   jsonb,
    hash       text NOT NULL DEFAULT '',
    UNIQUE (site_id, number)
);

CREATE TABLE handover_files (
    handover_id uuid NOT NULL REFERENCES handovers ON DELETE CASCADE,
    path        text NOT NULL,
    type        text NOT NULL,
    data        bytea NOT NULL,
    PRIMARY KEY (handover_id, path)
);
ALTER TABLE handover_files ALTER COLUMN data SET STORAGE EXTERNAL; -- pictures and papers are compressed already

CREATE TABLE sign_offs (
    handover_id uuid PRIMARY KEY REFERENCES handovers ON DELETE CASCADE,
    person_id   uuid,
    at          timestamptz NOT NULL DEFAULT now(),
    body        bytea NOT NULL            -- sign-off.json
);

-- +goose StatementBegin
CREATE FUNCTION handover_stays() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_TABLE_NAME = 'handovers' THEN
        IF OLD.manifest IS NOT NULL THEN
            RAISE EXCEPTION 'a version of a handover pack is not changed';
        END IF;
        RETURN NEW;
    END IF;
    RAISE EXCEPTION 'a file of a handover pack is not changed';
END $$;
-- +goose StatementEnd
CREATE TRIGGER handovers_stay BEFORE UPDATE ON handovers FOR EACH ROW EXECUTE FUNCTION handover_stays();
CREATE TRIGGER handover_files_stay BEFORE UPDATE ON handover_files FOR EACH ROW EXECUTE FUNCTION handover_stays();
CREATE TRIGGER sign_offs_stay BEFORE UPDATE ON sign_offs FOR EACH ROW EXECUTE FUNCTION handover_stays();

-- The pack that a site was opened from.
CREATE TABLE opened_packs (
    site_id   uuid PRIMARY KEY REFERENCES sites ON DELETE CASCADE,
    opened_by text NOT NULL,
    opened_at timestamptz NOT NULL DEFAULT now(),
    manifest  jsonb NOT NULL,
    pack      bytea NOT NULL -- handover.json
);

-- +goose Down
DROP TABLE opened_packs;
DROP TABLE sign_offs;
DROP TABLE handover_files;
DROP TABLE handovers;
DROP FUNCTION handover_stays;
DROP TABLE attested;
DROP TABLE waivers;
ALTER TABLE sites DROP COLUMN checklist;
DROP TABLE firm;
