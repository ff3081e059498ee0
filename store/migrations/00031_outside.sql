-- +goose Up
-- How a site is seen from outside: its addresses there, and which port leads to what.
ALTER TABLE sites ADD COLUMN outside jsonb;

-- +goose Down
ALTER TABLE sites DROP COLUMN outside;
