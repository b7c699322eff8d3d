-- +goose Up
CREATE TABLE IF NOT EXISTS account_seen (
    account_id VARCHAR(36) NOT NULL,
    at BIGINT NOT NULL,
    PRIMARY KEY (account_id)
);
