-- +goose Up
ALTER TABLE stops ADD KEY IF NOT EXISTS by_revision (environment_id, revision), ADD KEY IF NOT EXISTS by_age (lifted_at);
