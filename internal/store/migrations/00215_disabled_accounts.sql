-- +goose Up
-- Accounts that may not be used; a table of its own, so that the accounts' stays as it was.
CREATE TABLE IF NOT EXISTS disabled_accounts (
    account_id VARCHAR(36) PRIMARY KEY,
    at BIGINT NOT NULL,
    by_id VARCHAR(36) NOT NULL
);
