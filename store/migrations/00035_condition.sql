-- +goose Up
-- Servers and workers that run on this database, as they tell of themselves once a minute.
CREATE TABLE processes (
    name  text PRIMARY KEY,
    kind  text NOT NULL,
    since timestamptz NOT NULL,
    seen  timestamptz NOT NULL DEFAULT now(),
    facts jsonb NOT NULL
);
-- Backups that were tried by schedule. problem is why there is none, '' where there is one.
CREATE TABLE backups (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at      timestamptz NOT NULL DEFAULT now(),
    path    text NOT NULL DEFAULT '',
    bytes   bigint NOT NULL DEFAULT 0,
    rows    bigint NOT NULL DEFAULT 0,
    problem text NOT NULL DEFAULT ''
);
-- What is wrong with the installation and was told to whom.
CREATE TABLE told_ill (
    rule_id uuid NOT NULL REFERENCES tell_rules ON DELETE CASCADE,
    finding text NOT NULL,
    says    text NOT NULL,
    PRIMARY KEY (rule_id, finding)
);

-- +goose Down
DROP TABLE told_ill;
DROP TABLE backups;
DROP TABLE processes;
