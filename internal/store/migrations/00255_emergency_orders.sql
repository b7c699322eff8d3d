-- +goose Up
-- Emergency orders that were taken, so that none stops again.
CREATE TABLE IF NOT EXISTS emergency_orders (
    environment_id BIGINT NOT NULL,
    id VARCHAR(36) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    at BIGINT NOT NULL,
    lifts TEXT NOT NULL, -- ids of stops, as JSON
    body TEXT NOT NULL,  -- the order as it travelled
    PRIMARY KEY (environment_id, id)
);
