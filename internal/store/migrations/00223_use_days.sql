-- +goose Up
-- Sums by day, for looking far back at all flags.
CREATE TABLE IF NOT EXISTS use_days (
    environment_id BIGINT NOT NULL,
    day BIGINT NOT NULL, -- Unix days
    flag VARCHAR(100) NOT NULL,
    variant VARCHAR(64) NOT NULL,
    count BIGINT NOT NULL,
    PRIMARY KEY (environment_id, day, flag, variant),
    KEY by_day (day)
);
