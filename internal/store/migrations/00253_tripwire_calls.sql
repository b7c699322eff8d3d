-- +goose Up
-- Calls of tripwires that take several within a time.
CREATE TABLE IF NOT EXISTS tripwire_calls (
    id BIGINT NOT NULL AUTO_INCREMENT,
    tripwire VARCHAR(36) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    identity CHAR(32) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    at BIGINT NOT NULL,
    PRIMARY KEY (id),
    KEY counted (tripwire, identity, at),
    KEY by_age (at)
);
