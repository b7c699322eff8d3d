-- +goose Up
-- The times in which nothing moves units in an environment, as JSON. A row stands where there is one.
CREATE TABLE IF NOT EXISTS environment_freezes (
    environment_id BIGINT NOT NULL,
    body TEXT NOT NULL,
    PRIMARY KEY (environment_id)
);
