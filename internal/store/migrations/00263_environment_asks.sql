-- +goose Up
-- What an environment asks for besides a reason. A row stands where there is something.
CREATE TABLE IF NOT EXISTS environment_asks (
    environment_id BIGINT NOT NULL,
    owners_only BOOLEAN NOT NULL,
    PRIMARY KEY (environment_id)
);
