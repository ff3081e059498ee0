-- +goose Up
-- Where a sign-in may be tried, in which order, and whether it is one that a device has from the factory.
ALTER TABLE sign_ins
    ADD COLUMN factory  boolean NOT NULL DEFAULT false,
    ADD COLUMN note     text    NOT NULL DEFAULT '',
    ADD COLUMN site_id  uuid    REFERENCES sites ON DELETE CASCADE, -- of this site only; NULL for all
    ADD COLUMN maker    text    NOT NULL DEFAULT '',                -- on this maker's devices only; '' for all
    ADD COLUMN position int     NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE sign_ins DROP COLUMN factory, DROP COLUMN note, DROP COLUMN site_id, DROP COLUMN maker, DROP COLUMN position;
