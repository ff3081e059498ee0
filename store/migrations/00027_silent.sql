-- +goose Up
-- Since when a target has not answered, as far as it was asked; NULL while it answers.
ALTER TABLE targets ADD COLUMN silent_since timestamptz;

-- +goose Down
ALTER TABLE targets DROP COLUMN silent_since;
