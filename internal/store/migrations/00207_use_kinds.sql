-- +goose Up
-- Counts are kept by the version of their own flag; last is the Unix minute of the last count, to a day.
ALTER TABLE use_kinds
    ADD COLUMN IF NOT EXISTS flag_version BIGINT NOT NULL DEFAULT 0,
    ADD COLUMN IF NOT EXISTS last BIGINT NOT NULL DEFAULT 0,
    ADD KEY IF NOT EXISTS by_last (last);
