-- +goose Up
-- Where code asks for flags: what the newest scan of a branch of a repository found.
CREATE TABLE IF NOT EXISTS scans (
    project_id BIGINT NOT NULL,
    repository VARCHAR(200) NOT NULL,
    branch VARCHAR(200) NOT NULL,
    commit_id VARCHAR(100) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    at BIGINT NOT NULL,
    body LONGTEXT NOT NULL,
    PRIMARY KEY (project_id, repository, branch)
);
