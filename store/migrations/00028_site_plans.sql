-- +goose Up
CREATE TABLE site_plans (
    id         uuid PRIMARY KEY,
    site_id    uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    name       text NOT NULL,
    type       text NOT NULL, -- of the picture: image/png or image/jpeg
    picture    bytea NOT NULL,
    width      integer NOT NULL, -- pixels
    height     integer NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX site_plans_site ON site_plans (site_id);
ALTER TABLE site_plans ALTER COLUMN picture SET STORAGE EXTERNAL; -- it is compressed already

-- The marks are shares of the picture's width and height, and degrees.
CREATE TABLE site_plan_marks (
    plan_id   uuid NOT NULL REFERENCES site_plans ON DELETE CASCADE,
    device_id uuid NOT NULL REFERENCES devices ON DELETE CASCADE,
    x         double precision NOT NULL,
    y         double precision NOT NULL,
    direction double precision,
    view      double precision NOT NULL,
    PRIMARY KEY (plan_id, device_id)
);
CREATE INDEX site_plan_marks_device ON site_plan_marks (device_id);

-- +goose Down
DROP TABLE site_plan_marks, site_plans;
