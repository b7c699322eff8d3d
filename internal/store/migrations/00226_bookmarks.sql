-- +goose Up
CREATE TABLE IF NOT EXISTS bookmarks (
    project_id BIGINT NOT NULL,
    flag VARCHAR(100) NOT NULL,
    note VARCHAR(500) NOT NULL,
    PRIMARY KEY (project_id, flag)
);
