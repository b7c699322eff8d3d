-- +goose Up
-- What of the reports of an evidence run was not counted, by cause.
CREATE TABLE IF NOT EXISTS evidence_counts (
    run BIGINT NOT NULL,
    what VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    count BIGINT NOT NULL,
    PRIMARY KEY (run, what)
);
