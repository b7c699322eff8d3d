-- +goose Up
-- What happened to releases, in order; their states can be had from it again.
CREATE TABLE IF NOT EXISTS release_steps (
    release_id VARCHAR(36) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    sequence BIGINT NOT NULL,
    at BIGINT NOT NULL,
    revision BIGINT NOT NULL,
    body MEDIUMTEXT NOT NULL,
    PRIMARY KEY (release_id, sequence)
);
