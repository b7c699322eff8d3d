-- +goose Up
ALTER TABLE tokens ADD KEY IF NOT EXISTS by_account (account_id), ADD KEY IF NOT EXISTS by_age (expires);
