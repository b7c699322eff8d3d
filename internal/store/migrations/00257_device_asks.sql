-- +goose Up
-- Programs that wait for somebody to let them in (RFC 8628), under the digests of their codes. State: 0 asked, 1
-- allowed, 2 refused.
CREATE TABLE IF NOT EXISTS device_asks (
    digest BINARY(32) NOT NULL,
    user_code CHAR(8) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    name VARCHAR(200) NOT NULL,
    address VARCHAR(64) CHARACTER SET ascii NOT NULL,
    created BIGINT NOT NULL,
    expires BIGINT NOT NULL,
    polled BIGINT NOT NULL,
    state TINYINT NOT NULL,
    account_id VARCHAR(36) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    PRIMARY KEY (digest),
    UNIQUE KEY by_code (user_code),
    KEY old (expires)
);
