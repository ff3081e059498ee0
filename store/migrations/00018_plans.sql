-- +goose Up
-- What is wanted of streams: by part of a plan (main, sub, third, overlay) its text, as people write it.
CREATE TABLE plans (
    id         uuid PRIMARY KEY,
    site_id    uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    owner      text NOT NULL, -- site, model or selection
    name       text NOT NULL DEFAULT '', -- of the model or the selection
    parts      jsonb NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (site_id, owner, name)
);
-- A camera's own plan, and the selection that it is in.
CREATE TABLE device_plans (
    device_id uuid PRIMARY KEY REFERENCES devices ON DELETE CASCADE,
    parts     jsonb NOT NULL DEFAULT '{}',
    selection uuid REFERENCES plans ON DELETE SET NULL
);
-- Books of presets and of intakes that people brought, as they wrote them.
CREATE TABLE books (
    id         uuid PRIMARY KEY,
    kind       text NOT NULL, -- presets or intakes
    name       text NOT NULL,
    yaml       text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (kind, name)
);
-- What a target accepts, by the name of an intake; empty where nobody has said.
ALTER TABLE targets ADD COLUMN intake text NOT NULL DEFAULT '';
-- The disks and the recording that a site's costs are reckoned with, as the form has them.
ALTER TABLE sites ADD COLUMN costs jsonb;
-- Who began a run, where that matters to others.
ALTER TABLE runs ADD COLUMN person text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE runs DROP COLUMN person;
ALTER TABLE sites DROP COLUMN costs;
ALTER TABLE targets DROP COLUMN intake;
DROP TABLE books;
DROP TABLE device_plans;
DROP TABLE plans;
