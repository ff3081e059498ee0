-- +goose Up
-- Which sign-ins a target was given is asked each time it is connected to.
CREATE INDEX evidence_placed ON evidence (subject) WHERE kind = 'placed';

-- +goose Down
DROP INDEX evidence_placed;
