-- +goose Up
-- Environments that end by themselves.
CREATE TABLE IF NOT EXISTS environment_lives (
    environment_id BIGINT NOT NULL,
    project_id BIGINT NOT NULL,
    family VARCHAR(100) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    source VARCHAR(100) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    until_at BIGINT NOT NULL,
    by_id CHAR(36) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    PRIMARY KEY (environment_id),
    KEY lives_family (project_id, family),
    KEY lives_until (until_at)
);
