-- +goose Up
-- Whose site it is, as its people write it; empty where nobody has said.
ALTER TABLE sites ADD COLUMN customer text NOT NULL DEFAULT '' CHECK (length(customer) <= 120);

-- site_workers says how many workers share the work of a site now. A paired worker is told so of its own sites.
-- +goose StatementBegin
CREATE FUNCTION site_workers(site uuid) RETURNS bigint LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp AS $$
    SELECT count(*) FROM worker_sites WHERE site_id = site AND (far_worker() IS NULL OR site = ANY (far_sites()))
$$;
-- +goose StatementEnd

-- +goose Down
DROP FUNCTION site_workers(uuid);
ALTER TABLE sites DROP COLUMN customer;
