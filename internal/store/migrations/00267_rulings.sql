-- +goose Up
-- How policies ruled on changes, also on those that they refused.
CREATE TABLE IF NOT EXISTS rulings (
    id BIGINT NOT NULL AUTO_INCREMENT,
    project_id BIGINT NOT NULL,
    policy VARCHAR(100) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    at BIGINT NOT NULL,
    body MEDIUMTEXT NOT NULL,
    PRIMARY KEY (id),
    KEY rulings_policy (project_id, policy, at),
    KEY rulings_project (project_id, at),
    KEY rulings_at (at)
);
