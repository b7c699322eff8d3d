-- +goose Up
ALTER TABLE sessions
    ADD COLUMN IF NOT EXISTS address VARCHAR(64) NOT NULL DEFAULT '',
    ADD COLUMN IF NOT EXISTS agent VARCHAR(200) NOT NULL DEFAULT '',
    ADD KEY IF NOT EXISTS by_account (account_id),
    ADD KEY IF NOT EXISTS by_age (expires);
