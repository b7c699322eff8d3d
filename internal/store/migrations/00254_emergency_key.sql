-- +goose Up
-- The public half of the key that emergency orders are signed with; empty: there is none.
ALTER TABLE installation ADD COLUMN IF NOT EXISTS emergency_key VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '';
