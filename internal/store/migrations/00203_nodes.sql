-- +goose Up
-- The processes of the service, each known by a lease.
CREATE TABLE IF NOT EXISTS nodes (
    id VARCHAR(64) PRIMARY KEY,
    version VARCHAR(100) NOT NULL,
    started BIGINT NOT NULL,
    until DATETIME(6) NOT NULL,
    body LONGTEXT NOT NULL, -- by environment: what it decides by, and how many browsers it has
    KEY (until)
);
