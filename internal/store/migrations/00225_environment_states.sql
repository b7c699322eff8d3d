-- +goose Up
-- Environments that have ended; a table of its own, so that the environments' stays as it was.
CREATE TABLE IF NOT EXISTS environment_states (
    environment_id BIGINT PRIMARY KEY,
    state VARCHAR(20) NOT NULL, -- archived or gone
    at BIGINT NOT NULL,
    by_id VARCHAR(36) NOT NULL
);
