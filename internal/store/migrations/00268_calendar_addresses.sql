-- +goose Up
-- Addresses at which somebody reads a calendar without signing in. Of the secret in them a digest is kept.
CREATE TABLE IF NOT EXISTS calendar_addresses (
    id CHAR(36) NOT NULL,
    account_id VARCHAR(36) NOT NULL,
    project_id BIGINT NOT NULL,
    made BIGINT NOT NULL,
    digest VARBINARY(32) NOT NULL,
    PRIMARY KEY (id),
    UNIQUE KEY calendar_digest (digest),
    KEY calendar_project (project_id, account_id)
);
