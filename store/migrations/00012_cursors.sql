-- +goose Up
-- How far a long job of a run has come: what it goes on from when it was cut short. JSON of the job's own making.
ALTER TABLE runs ADD COLUMN cursor jsonb NOT NULL DEFAULT 'null';

-- +goose Down
ALTER TABLE runs DROP COLUMN cursor;
