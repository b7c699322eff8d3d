-- +goose Up
-- Up to when each process of the service has written what arrived there.
CREATE TABLE IF NOT EXISTS evidence_marks (
    node VARCHAR(36) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    mark BIGINT NOT NULL,
    until BIGINT NOT NULL,
    PRIMARY KEY (node)
);
