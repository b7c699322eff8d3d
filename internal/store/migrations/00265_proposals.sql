-- +goose Up
-- Changes that are proposed. due is set while one waits for its time, ended once nothing more happens to it.
CREATE TABLE IF NOT EXISTS proposals (
    id CHAR(36) NOT NULL,
    project_id BIGINT NOT NULL,
    state VARCHAR(20) NOT NULL,
    due BIGINT NULL,
    ended BIGINT NULL,
    body LONGTEXT NOT NULL,
    PRIMARY KEY (id),
    KEY proposals_project (project_id, ended),
    KEY proposals_due (due)
);
