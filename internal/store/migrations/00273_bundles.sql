-- +goose Up
-- Flags that ship together. One that was taken away keeps its row, so that its versions go on.
CREATE TABLE IF NOT EXISTS bundles (
    project_id BIGINT NOT NULL,
    bundle VARCHAR(100) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    version BIGINT NOT NULL,
    gone BOOLEAN NOT NULL,
    body MEDIUMTEXT NOT NULL,
    PRIMARY KEY (project_id, bundle)
);
