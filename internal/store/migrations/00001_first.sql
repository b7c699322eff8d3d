-- +goose Up
CREATE TABLE IF NOT EXISTS installation (
    id TINYINT PRIMARY KEY,
    epoch BIGINT NOT NULL,
    set_up_digest VARBINARY(32) NULL, -- of the code for the first account, until it is used
    CHECK (id = 1)
);
CREATE TABLE IF NOT EXISTS projects (
    id BIGINT AUTO_INCREMENT PRIMARY KEY,
    project_key VARCHAR(100) NOT NULL UNIQUE,
    title VARCHAR(200) NOT NULL,
    created BIGINT NOT NULL
);
CREATE TABLE IF NOT EXISTS environments (
    id BIGINT AUTO_INCREMENT PRIMARY KEY,
    project_id BIGINT NOT NULL REFERENCES projects (id),
    environment_key VARCHAR(100) NOT NULL,
    title VARCHAR(200) NOT NULL,
    ask_first BOOLEAN NOT NULL,
    revision BIGINT NOT NULL,
    behind BIGINT NOT NULL DEFAULT 0,
    created BIGINT NOT NULL,
    UNIQUE (project_id, environment_key)
);
CREATE TABLE IF NOT EXISTS definitions (
    id BIGINT AUTO_INCREMENT PRIMARY KEY,
    project_id BIGINT NOT NULL REFERENCES projects (id),
    flag VARCHAR(100) NOT NULL,
    version BIGINT NOT NULL,
    body LONGTEXT NOT NULL,
    UNIQUE (project_id, flag)
);
CREATE TABLE IF NOT EXISTS flags (
    environment_id BIGINT NOT NULL REFERENCES environments (id),
    flag VARCHAR(100) NOT NULL,
    version BIGINT NOT NULL,
    revision BIGINT NOT NULL,
    document LONGTEXT NOT NULL,
    PRIMARY KEY (environment_id, flag)
);
CREATE TABLE IF NOT EXISTS flag_versions (
    environment_id BIGINT NOT NULL,
    flag VARCHAR(100) NOT NULL,
    version BIGINT NOT NULL,
    revision BIGINT NOT NULL,
    document LONGTEXT NOT NULL,
    PRIMARY KEY (environment_id, flag, version)
);
CREATE TABLE IF NOT EXISTS segment_definitions (
    project_id BIGINT NOT NULL REFERENCES projects (id),
    segment VARCHAR(100) NOT NULL,
    title VARCHAR(200) NOT NULL,
    created BIGINT NOT NULL,
    PRIMARY KEY (project_id, segment)
);
CREATE TABLE IF NOT EXISTS segments (
    environment_id BIGINT NOT NULL REFERENCES environments (id),
    segment VARCHAR(100) NOT NULL,
    version BIGINT NOT NULL,
    revision BIGINT NOT NULL,
    document LONGTEXT NOT NULL,
    PRIMARY KEY (environment_id, segment)
);
CREATE TABLE IF NOT EXISTS segment_versions (
    environment_id BIGINT NOT NULL,
    segment VARCHAR(100) NOT NULL,
    version BIGINT NOT NULL,
    revision BIGINT NOT NULL,
    document LONGTEXT NOT NULL,
    PRIMARY KEY (environment_id, segment, version)
);
CREATE TABLE IF NOT EXISTS revisions (
    environment_id BIGINT NOT NULL,
    revision BIGINT NOT NULL,
    at BIGINT NOT NULL,
    change_id VARCHAR(36) NOT NULL,
    event LONGTEXT NOT NULL,
    PRIMARY KEY (environment_id, revision)
);
CREATE TABLE IF NOT EXISTS stops (
    id VARCHAR(36) PRIMARY KEY,
    environment_id BIGINT NOT NULL REFERENCES environments (id),
    flags LONGTEXT NOT NULL,
    by_id VARCHAR(36) NOT NULL,
    at BIGINT NOT NULL,
    reason TEXT NOT NULL,
    revision BIGINT NOT NULL,
    lifted_by VARCHAR(36) NOT NULL DEFAULT '',
    lifted_at BIGINT NOT NULL DEFAULT 0,
    lifted_revision BIGINT NOT NULL DEFAULT 0,
    KEY (environment_id, lifted_at)
);
CREATE TABLE IF NOT EXISTS audit_heads (
    chain VARCHAR(40) PRIMARY KEY,
    sequence BIGINT NOT NULL,
    digest CHAR(64) NOT NULL,
    signed BIGINT NOT NULL DEFAULT 0
);
CREATE TABLE IF NOT EXISTS audit (
    chain VARCHAR(40) NOT NULL,
    sequence BIGINT NOT NULL,
    at BIGINT NOT NULL,
    project_id BIGINT NOT NULL,
    environment_id BIGINT NOT NULL,
    subject VARCHAR(200) NOT NULL,
    actor VARCHAR(36) NOT NULL,
    action VARCHAR(60) NOT NULL,
    entry LONGBLOB NOT NULL,
    digest CHAR(64) NOT NULL,
    personal LONGBLOB NOT NULL,
    PRIMARY KEY (chain, sequence),
    KEY (project_id, at)
);
CREATE TABLE IF NOT EXISTS signed_heads (
    chain VARCHAR(40) NOT NULL,
    sequence BIGINT NOT NULL,
    digest CHAR(64) NOT NULL,
    at BIGINT NOT NULL,
    public_key CHAR(64) NOT NULL,
    signature CHAR(128) NOT NULL,
    PRIMARY KEY (chain, sequence, public_key)
);
CREATE TABLE IF NOT EXISTS accounts (
    id VARCHAR(36) PRIMARY KEY,
    email VARCHAR(200) NOT NULL UNIQUE,
    name VARCHAR(200) NOT NULL,
    password VARCHAR(300) NOT NULL,
    keeper BOOLEAN NOT NULL,
    created BIGINT NOT NULL
);
CREATE TABLE IF NOT EXISTS roles (
    project_id BIGINT NOT NULL REFERENCES projects (id),
    account_id VARCHAR(36) NOT NULL REFERENCES accounts (id),
    role VARCHAR(20) NOT NULL,
    PRIMARY KEY (project_id, account_id, role)
);
CREATE TABLE IF NOT EXISTS sessions (
    digest VARBINARY(32) PRIMARY KEY,
    account_id VARCHAR(36) NOT NULL REFERENCES accounts (id),
    csrf VARCHAR(64) NOT NULL,
    created BIGINT NOT NULL,
    expires BIGINT NOT NULL
);
CREATE TABLE IF NOT EXISTS tokens (
    id VARCHAR(36) PRIMARY KEY,
    account_id VARCHAR(36) NOT NULL REFERENCES accounts (id),
    name VARCHAR(200) NOT NULL,
    digest VARBINARY(32) NOT NULL UNIQUE,
    created BIGINT NOT NULL,
    expires BIGINT NOT NULL
);
CREATE TABLE IF NOT EXISTS access_keys (
    id VARCHAR(36) PRIMARY KEY,
    environment_id BIGINT NOT NULL REFERENCES environments (id),
    kind VARCHAR(20) NOT NULL,
    purpose VARCHAR(100) NOT NULL,
    hint VARCHAR(20) NOT NULL,
    digest VARBINARY(32) NOT NULL UNIQUE,
    created BIGINT NOT NULL,
    revoked BIGINT NOT NULL DEFAULT 0
);
CREATE TABLE IF NOT EXISTS idempotency (
    scope VARCHAR(36) NOT NULL, -- the account
    id VARCHAR(100) NOT NULL,   -- the key that the caller chose
    request CHAR(64) NOT NULL,  -- digest of what was asked
    result LONGTEXT NOT NULL,
    at BIGINT NOT NULL,
    PRIMARY KEY (scope, id),
    KEY (at)
);
CREATE TABLE IF NOT EXISTS instances (
    environment_id BIGINT NOT NULL,
    id VARCHAR(64) NOT NULL,
    application VARCHAR(100) NOT NULL,
    version VARCHAR(100) NOT NULL,
    epoch BIGINT NOT NULL,
    revision BIGINT NOT NULL,
    source VARCHAR(20) NOT NULL,
    skew_millis BIGINT NOT NULL,
    sequence BIGINT NOT NULL,
    seen BIGINT NOT NULL,
    gone BOOLEAN NOT NULL,
    PRIMARY KEY (environment_id, id)
);
CREATE TABLE IF NOT EXISTS counts (
    environment_id BIGINT NOT NULL,
    minute BIGINT NOT NULL, -- Unix minutes
    flag VARCHAR(100) NOT NULL,
    variant VARCHAR(64) NOT NULL,
    count BIGINT NOT NULL,
    PRIMARY KEY (environment_id, minute, flag, variant)
);
INSERT IGNORE INTO installation (id, epoch) VALUES (1, CAST(UNIX_TIMESTAMP(NOW(3)) * 1000 AS UNSIGNED));
INSERT IGNORE INTO audit_heads (chain, sequence, digest) VALUES ('access', 0, '');
