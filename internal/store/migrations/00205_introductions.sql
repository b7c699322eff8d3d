-- +goose Up
-- Which access key introduced an instance, and the identity of the revision it decides by.
CREATE TABLE IF NOT EXISTS introductions (
    environment_id BIGINT NOT NULL,
    instance VARCHAR(64) NOT NULL,
    access_key VARCHAR(36) NOT NULL,
    digest CHAR(64) NOT NULL,
    PRIMARY KEY (environment_id, instance),
    KEY (environment_id, access_key)
);
