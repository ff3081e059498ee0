-- +goose Up
-- Which sites a worker reaches. The row ends with the worker's lease.
CREATE TABLE worker_sites (
    worker  text NOT NULL REFERENCES workers ON DELETE CASCADE,
    site_id uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    PRIMARY KEY (worker, site_id)
);

-- +goose Down
DROP TABLE worker_sites;
