-- +goose Up
-- Whom providers of identities know as which account. id is the digest of issuer and subject.
CREATE TABLE IF NOT EXISTS identities (
    id CHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    account_id VARCHAR(36) NOT NULL,
    issuer VARCHAR(300) NOT NULL,
    subject VARCHAR(300) NOT NULL,
    made BIGINT NOT NULL,
    confirmed BIGINT NOT NULL,
    PRIMARY KEY (id),
    KEY identities_account (account_id)
);
