-- +goose Up
ALTER TABLE segment_versions ADD KEY IF NOT EXISTS by_revision (environment_id, segment, revision);
