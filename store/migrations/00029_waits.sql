-- +goose Up
-- How long pictures on a target were waited for is asked by target.
CREATE INDEX evidence_confirmed ON evidence (subject, at DESC) WHERE kind = 'confirmed';

-- +goose Down
DROP INDEX evidence_confirmed;
