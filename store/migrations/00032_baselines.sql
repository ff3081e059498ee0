-- +goose Up
-- The states of devices that people agreed on. None is changed or removed on its own: another is taken.
CREATE TABLE baselines (
  id uuid PRIMARY KEY,
  site_id uuid NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
  name text NOT NULL,
  reason text NOT NULL,
  taken_by text NOT NULL,
  taken_at timestamptz NOT NULL DEFAULT now(),
  devices integer NOT NULL,
  unfinished integer NOT NULL,
  state jsonb NOT NULL
);
CREATE INDEX ON baselines (site_id, taken_at);

-- +goose Down
DROP TABLE baselines;
