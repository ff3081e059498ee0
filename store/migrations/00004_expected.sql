-- +goose Up
-- The address list that somebody brought along: what is expected on a site.
CREATE TABLE expected (
    site_id uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    line    int  NOT NULL,
    name    text NOT NULL,
    addr    text NOT NULL,
    mac     text NOT NULL,
    serial  text NOT NULL,
    note    text NOT NULL,
    PRIMARY KEY (site_id, line)
);

-- +goose Down
DROP TABLE expected;
