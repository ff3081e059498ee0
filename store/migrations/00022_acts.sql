-- +goose Up

-- What a person may do here. Everybody there is may do everything, as before.
ALTER TABLE people ADD COLUMN role text NOT NULL DEFAULT 'owner';

-- The record says what was done as fields. Lines of before have their words in action.
ALTER TABLE audit
    ADD COLUMN act       text NOT NULL DEFAULT '',
    ADD COLUMN devices   uuid[] NOT NULL DEFAULT '{}',
    ADD COLUMN target_id uuid,
    ADD COLUMN target    text NOT NULL DEFAULT '',
    ADD COLUMN before    text NOT NULL DEFAULT '',
    ADD COLUMN after     text NOT NULL DEFAULT '';
ALTER TABLE audit ALTER COLUMN action SET DEFAULT '';
CREATE INDEX audit_devices ON audit USING gin (devices);

-- Fourteen kinds of job became four. Jobs of the kinds of before cannot be carried out any more: their runs end, and are begun again by
-- whoever wants them.
-- +goose StatementBegin
DO $$ BEGIN
    IF to_regclass('river_job') IS NOT NULL THEN
        UPDATE runs r SET problem = 'Unlatch was updated before this ended. Begin it again.' FROM river_job j
            WHERE j.args->>'run' = r.id::text AND j.state IN ('available', 'pending', 'retryable', 'running', 'scheduled');
        UPDATE river_job SET state = 'cancelled', finalized_at = now()
            WHERE state IN ('available', 'pending', 'retryable', 'running', 'scheduled');
    END IF;
END $$;
-- +goose StatementEnd

-- +goose Down
DROP INDEX audit_devices;
ALTER TABLE audit DROP COLUMN act, DROP COLUMN devices, DROP COLUMN target_id, DROP COLUMN target, DROP COLUMN before, DROP COLUMN after;
ALTER TABLE people DROP COLUMN role;
