-- +goose Up
-- What a flag gives in all short-lived environments of a family.
CREATE TABLE IF NOT EXISTS family_gives (
    project_id BIGINT NOT NULL,
    family VARCHAR(100) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    flag VARCHAR(100) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    variant VARCHAR(100) NOT NULL,
    PRIMARY KEY (project_id, family, flag)
);
