-- +goose Up
-- Rules for changes that a project wrote down. One that was taken away keeps its row, so that its versions go on.
CREATE TABLE IF NOT EXISTS policies (
    project_id BIGINT NOT NULL,
    policy VARCHAR(100) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    version BIGINT NOT NULL,
    at BIGINT NOT NULL,
    gone BOOLEAN NOT NULL,
    body MEDIUMTEXT NOT NULL,
    PRIMARY KEY (project_id, policy)
);
