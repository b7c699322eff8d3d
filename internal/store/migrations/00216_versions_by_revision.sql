-- +goose Up
ALTER TABLE flag_versions ADD KEY IF NOT EXISTS by_revision (environment_id, flag, revision);
