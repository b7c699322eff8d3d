-- +goose Up
-- A revision is known by the digest of its entry in the chain; empty for those made before this.
ALTER TABLE revisions
    ADD COLUMN IF NOT EXISTS digest CHAR(64) NOT NULL DEFAULT '',
    ADD KEY IF NOT EXISTS by_time (environment_id, at);
