-- +goose Up
-- A list belongs to a project (0: not known yet), may be kept as the difference to another one
-- (base), and is forgotten once no version names it.
ALTER TABLE lists
    ADD COLUMN IF NOT EXISTS project_id BIGINT NOT NULL DEFAULT 0,
    ADD COLUMN IF NOT EXISTS base CHAR(64) NOT NULL DEFAULT '',
    ADD COLUMN IF NOT EXISTS depth INT NOT NULL DEFAULT 0,
    ADD COLUMN IF NOT EXISTS at BIGINT NOT NULL DEFAULT 0,
    ADD KEY IF NOT EXISTS by_base (base),
    ADD KEY IF NOT EXISTS by_project (project_id, digest);
