-- +goose Up
ALTER TABLE access_keys ADD KEY IF NOT EXISTS by_end (revoked), ADD KEY IF NOT EXISTS by_environment (environment_id);
