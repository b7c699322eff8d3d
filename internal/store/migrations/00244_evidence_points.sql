-- +goose Up
-- What evidence runs had found at looks, thinned as they grow older.
CREATE TABLE IF NOT EXISTS evidence_points (
    run BIGINT NOT NULL,
    at BIGINT NOT NULL,
    body TEXT NOT NULL,
    PRIMARY KEY (run, at)
);
