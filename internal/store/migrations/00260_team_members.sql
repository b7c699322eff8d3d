-- +goose Up
CREATE TABLE IF NOT EXISTS team_members (
    team_id VARCHAR(36) NOT NULL,
    account_id VARCHAR(36) NOT NULL,
    PRIMARY KEY (team_id, account_id),
    KEY of_account (account_id)
);
