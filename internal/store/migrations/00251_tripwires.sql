-- +goose Up
-- Addresses at which monitoring systems stop flags, with the digests of their secrets.
CREATE TABLE IF NOT EXISTS tripwires (
    id VARCHAR(36) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    environment_id BIGINT NOT NULL,
    gone BOOLEAN NOT NULL,
    refused BIGINT NOT NULL DEFAULT 0, -- the Unix minute of the last entry of refused calls
    body MEDIUMTEXT NOT NULL,
    PRIMARY KEY (id),
    KEY of_environment (environment_id, gone)
);
