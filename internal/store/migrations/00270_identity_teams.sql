-- +goose Up
-- Teams that a provider said of somebody at a sign-in.
CREATE TABLE IF NOT EXISTS identity_teams (
    account_id VARCHAR(36) NOT NULL,
    team_id VARCHAR(36) NOT NULL,
    until BIGINT NOT NULL,
    PRIMARY KEY (account_id, team_id)
);
