-- +goose Up
-- A uniform part of the units of an evidence run to which something bad happened, by name.
CREATE TABLE IF NOT EXISTS bad_units (
    run BIGINT NOT NULL,
    side TINYINT NOT NULL,
    unit BIGINT UNSIGNED NOT NULL,
    name VARCHAR(1000) COLLATE utf8mb4_bin NOT NULL,
    PRIMARY KEY (run, side, unit)
);
