-- +goose Up
-- Kinds of runs and of evidence under the names that they have everywhere else.
ALTER TABLE evidence DISABLE TRIGGER evidence_append_only;
UPDATE evidence SET kind = 'fix' WHERE kind = 'remedy';
ALTER TABLE evidence ENABLE TRIGGER evidence_append_only;
UPDATE runs SET kind = 'fix' WHERE kind = 'remedy';
UPDATE runs SET kind = 'address' WHERE kind = 'readdress';
-- +goose StatementBegin
DO $$ BEGIN
    IF to_regclass('river_job') IS NOT NULL THEN
        UPDATE river_job SET kind = 'fix' WHERE kind = 'remedy';
        UPDATE river_job SET kind = 'address' WHERE kind = 'readdress';
    END IF;
END $$;
-- +goose StatementEnd
