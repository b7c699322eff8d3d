-- +goose Up
-- Recipes that projects edited, made or took away; those that ship stand in the program.
CREATE TABLE IF NOT EXISTS recipes (
    project_id BIGINT NOT NULL,
    recipe VARCHAR(100) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    gone BOOLEAN NOT NULL,
    body MEDIUMTEXT NOT NULL,
    PRIMARY KEY (project_id, recipe)
);
