-- +goose Up
CREATE TABLE IF NOT EXISTS teams (
    id VARCHAR(36) NOT NULL,
    team_key VARCHAR(100) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    title VARCHAR(200) NOT NULL,
    made BIGINT NOT NULL,
    PRIMARY KEY (id),
    UNIQUE KEY by_key (team_key)
);
