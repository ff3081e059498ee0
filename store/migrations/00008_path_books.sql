-- +goose Up
-- Path books that people brought or that were learned here; those of the product come with the program.
CREATE TABLE path_books (
    id         uuid PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    yaml       text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE path_books;
