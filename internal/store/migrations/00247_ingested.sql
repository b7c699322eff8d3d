-- +goose Up
-- Batches of measurements that were taken, so that each is taken once.
CREATE TABLE IF NOT EXISTS ingested (
    environment_id BIGINT NOT NULL,
    batch VARBINARY(32) NOT NULL,
    at BIGINT NOT NULL,
    PRIMARY KEY (environment_id, batch),
    KEY old (at)
);
