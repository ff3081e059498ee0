-- +goose Up
-- Programs for machines elsewhere, as they were signed, in parts. A paired worker reads what it is told to take; whether it runs it is
-- decided by the key that it trusts.
CREATE TABLE worker_programs (
    id         uuid PRIMARY KEY,
    version    text NOT NULL,
    os         text NOT NULL,
    arch       text NOT NULL,
    size       bigint NOT NULL,
    head       bytea NOT NULL,
    offered_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (version, os, arch)
);
CREATE TABLE worker_program_parts (
    program_id uuid NOT NULL REFERENCES worker_programs ON DELETE CASCADE,
    number     integer NOT NULL,
    data       bytea NOT NULL,
    PRIMARY KEY (program_id, number)
);
-- What a paired worker is told to become, and how that goes, by its own word.
CREATE TABLE worker_updates (
    worker_id  uuid PRIMARY KEY REFERENCES paired_workers ON DELETE CASCADE,
    version    text NOT NULL,
    told_by    text NOT NULL,
    told_at    timestamptz NOT NULL DEFAULT now(),
    state      text NOT NULL DEFAULT 'told' CHECK (state IN ('told', 'taken', 'done', 'failed')),
    problem    text NOT NULL DEFAULT '' CHECK (length(problem) <= 500),
    changed_at timestamptz NOT NULL DEFAULT now()
);
ALTER TABLE worker_programs ENABLE ROW LEVEL SECURITY;
ALTER TABLE worker_program_parts ENABLE ROW LEVEL SECURITY;
ALTER TABLE worker_updates ENABLE ROW LEVEL SECURITY;
CREATE POLICY far ON worker_programs FOR SELECT USING (true);
CREATE POLICY far ON worker_program_parts FOR SELECT USING (true);
CREATE POLICY far ON worker_updates USING (worker_id = (SELECT far_worker())) WITH CHECK (worker_id = (SELECT far_worker()));

-- Jobs name their run in text, which a paired worker may write as it likes: it is compared as text, and looked up so.
CREATE INDEX runs_text ON runs ((id::text));

-- +goose Down
DROP INDEX runs_text;
DROP TABLE worker_updates, worker_program_parts, worker_programs;
