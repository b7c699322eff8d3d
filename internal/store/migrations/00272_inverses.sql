-- +goose Up
-- What takes back the changes of what a project owns; documents of environments have their versions.
CREATE TABLE IF NOT EXISTS inverses (
    project_id BIGINT NOT NULL,
    change_id CHAR(36) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    at BIGINT NOT NULL,
    body LONGTEXT NOT NULL,
    PRIMARY KEY (project_id, change_id),
    KEY inverses_at (at)
);
