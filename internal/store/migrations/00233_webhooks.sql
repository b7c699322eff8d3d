-- +goose Up
-- Addresses that are told of changes, with what they want to hear and the secrets that sign it.
CREATE TABLE IF NOT EXISTS webhooks (
    id VARCHAR(36) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    project_id BIGINT NOT NULL,
    gone BOOLEAN NOT NULL,
    quiet BOOLEAN NOT NULL,
    body MEDIUMTEXT NOT NULL,
    PRIMARY KEY (id),
    KEY of_project (project_id, gone)
);
