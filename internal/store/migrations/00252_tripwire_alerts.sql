-- +goose Up
-- Alerts that tripwires stopped for: each stops once until it is over.
CREATE TABLE IF NOT EXISTS tripwire_alerts (
    tripwire VARCHAR(36) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    identity CHAR(32) CHARACTER SET ascii COLLATE ascii_bin NOT NULL, -- its digest
    name VARCHAR(200) NOT NULL,
    fired BIGINT NOT NULL,
    stop VARCHAR(36) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    cleared BIGINT NOT NULL,
    PRIMARY KEY (tripwire, identity),
    KEY by_age (cleared)
);
