-- +goose Up
-- The sketch of a picture, by which those that look like it are found without reading all of them. It is empty for what is not compared, and
-- missing for pictures that were kept before there were sketches.
ALTER TABLE stills ADD COLUMN sketch bit varying(576);
ALTER TABLE stills ALTER COLUMN sketch SET DEFAULT B'';
CREATE INDEX stills_device ON stills (device_id);
CREATE INDEX stills_unsketched ON stills (device_id) WHERE sketch IS NULL;

-- +goose Down
DROP INDEX stills_unsketched;
DROP INDEX stills_device;
ALTER TABLE stills DROP COLUMN sketch;
