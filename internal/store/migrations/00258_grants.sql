-- +goose Up
-- Roles that count in one environment, and roles of teams. What a person holds in all of a project stays in roles, where
-- an older release finds it. Holder: an account's id, or a team's. Environment 0: all.
CREATE TABLE IF NOT EXISTS grants (
    project_id BIGINT NOT NULL,
    environment_id BIGINT NOT NULL,
    holder VARCHAR(36) NOT NULL,
    role VARCHAR(20) NOT NULL,
    PRIMARY KEY (project_id, holder, environment_id, role),
    KEY of_holder (holder)
);
