-- +goose Up
-- Releases of flags, of which one at most runs for each flag and environment.
CREATE TABLE IF NOT EXISTS releases (
    id VARCHAR(36) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    project_id BIGINT NOT NULL,
    environment_id BIGINT NOT NULL,
    flag VARCHAR(100) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    running BOOLEAN NULL,
    made BIGINT NOT NULL,
    ended BIGINT NOT NULL,
    body MEDIUMTEXT NOT NULL,
    PRIMARY KEY (id),
    UNIQUE KEY one_runs (environment_id, flag, running),
    KEY those_that_run (running, project_id),
    KEY newest (environment_id, flag, made),
    KEY ended_last (project_id, ended)
);
