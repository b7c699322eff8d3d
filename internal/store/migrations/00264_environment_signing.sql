-- +goose Up
-- Which signatures a change takes, as JSON. Nothing: none.
ALTER TABLE environment_asks ADD COLUMN IF NOT EXISTS signing VARCHAR(4000) NOT NULL DEFAULT '';
