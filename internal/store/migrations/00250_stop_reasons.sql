-- +goose Up
-- A reason that was given after a stop.
ALTER TABLE stops
    ADD COLUMN IF NOT EXISTS later_reason TEXT NOT NULL DEFAULT '',
    ADD COLUMN IF NOT EXISTS later_by VARCHAR(36) NOT NULL DEFAULT '',
    ADD COLUMN IF NOT EXISTS later_at BIGINT NOT NULL DEFAULT 0;
