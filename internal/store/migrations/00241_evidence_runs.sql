-- +goose Up
-- Evidence runs of releases: what was found, and up to where the ledger was taken for it.
CREATE TABLE IF NOT EXISTS evidence_runs (
    id BIGINT NOT NULL AUTO_INCREMENT,
    release_id VARCHAR(36) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    run INT NOT NULL,
    environment_id BIGINT NOT NULL,
    began BIGINT NOT NULL,
    ended BIGINT NOT NULL,
    secret BINARY(16) NOT NULL,
    taken TEXT NOT NULL,
    body MEDIUMTEXT NOT NULL,
    PRIMARY KEY (id),
    UNIQUE KEY one (release_id, run),
    KEY those_that_ended (ended)
);
