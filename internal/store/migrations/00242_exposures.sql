-- +goose Up
-- The exposure ledger: a row for each unit of an evidence run, by a keyed hash. Arm 0 waits for its exposure.
CREATE TABLE IF NOT EXISTS exposures (
    run BIGINT NOT NULL,
    unit BIGINT UNSIGNED NOT NULL,
    arm TINYINT NOT NULL,
    stage SMALLINT NOT NULL,
    cohort SMALLINT NOT NULL,
    exposed BIGINT NOT NULL,
    events BLOB NOT NULL,
    attributes VARCHAR(2000) COLLATE utf8mb4_bin NOT NULL,
    PRIMARY KEY (run, unit),
    KEY due (run, arm, exposed)
);
