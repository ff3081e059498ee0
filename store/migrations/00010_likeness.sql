-- +goose Up
-- What kind of device a try was made on: what opens one is tried first on the next of its kind.
ALTER TABLE tries ADD COLUMN likeness text NOT NULL DEFAULT '';
CREATE INDEX tries_likeness ON tries (likeness, sign_in_id);

-- +goose Down
ALTER TABLE tries DROP COLUMN likeness;
