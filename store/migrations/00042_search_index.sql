-- +goose Up
-- Words are looked for anywhere within what a device is found by: the index has it by every three letters. They change seldom, so that
-- nothing is left for later.
CREATE INDEX device_words_text ON device_words USING gin (words gin_trgm_ops) WITH (fastupdate = off);

-- +goose Down
DROP INDEX device_words_text;
