-- +goose Up
-- Screens that still ask at an address that their feed has had before.
ALTER TABLE feed_screens ADD COLUMN old boolean NOT NULL DEFAULT false;

-- +goose Down
DELETE FROM feed_screens WHERE old;
ALTER TABLE feed_screens DROP COLUMN old;
