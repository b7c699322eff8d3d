-- +goose Up
-- What a project measures of units.
CREATE TABLE IF NOT EXISTS metrics (
    project_id BIGINT NOT NULL,
    metric VARCHAR(100) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    gone BOOLEAN NOT NULL,
    body MEDIUMTEXT NOT NULL,
    PRIMARY KEY (project_id, metric)
);
