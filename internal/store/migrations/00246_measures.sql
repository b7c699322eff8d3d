-- +goose Up
-- What was measured in all, by minute, by version of an application, and by what a flag had given. No flag: of all.
CREATE TABLE IF NOT EXISTS measures (
    environment_id BIGINT NOT NULL,
    metric VARCHAR(100) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    minute BIGINT NOT NULL,
    application VARCHAR(100) COLLATE utf8mb4_bin NOT NULL,
    version VARCHAR(100) COLLATE utf8mb4_bin NOT NULL,
    flag VARCHAR(100) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    variant VARCHAR(64) COLLATE utf8mb4_bin NOT NULL,
    count BIGINT NOT NULL,
    bad BIGINT NOT NULL,
    sum DOUBLE NOT NULL,
    PRIMARY KEY (environment_id, metric, minute, application, version, flag, variant),
    KEY old (minute)
);
