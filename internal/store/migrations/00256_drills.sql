-- +goose Up
-- Stops that were practised.
CREATE TABLE IF NOT EXISTS drills (
    id VARCHAR(36) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    environment_id BIGINT NOT NULL,
    kind VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    at BIGINT NOT NULL,
    revision BIGINT NOT NULL,
    body MEDIUMTEXT NOT NULL,
    PRIMARY KEY (id),
    KEY of_environment (environment_id, at),
    KEY of_revision (environment_id, revision)
);
