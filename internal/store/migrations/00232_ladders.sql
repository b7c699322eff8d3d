-- +goose Up
-- Saved orders of stages that projects edited, made or took away; those that ship stand in the program.
CREATE TABLE IF NOT EXISTS ladders (
    project_id BIGINT NOT NULL,
    ladder VARCHAR(100) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    gone BOOLEAN NOT NULL,
    body MEDIUMTEXT NOT NULL,
    PRIMARY KEY (project_id, ladder)
);
