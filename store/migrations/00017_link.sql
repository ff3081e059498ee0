-- +goose Up
-- How much may flow at once while streams are measured, in Mbit/s; 0 for what the interface carries.
ALTER TABLE sites ADD COLUMN link_mbps integer NOT NULL DEFAULT 0 CHECK (link_mbps BETWEEN 0 AND 100000);
