-- +goose Up
ALTER TABLE instances
    ADD COLUMN IF NOT EXISTS kind VARCHAR(20) NOT NULL DEFAULT '',        -- empty: an application; outpost; service
    ADD COLUMN IF NOT EXISTS via VARCHAR(64) NOT NULL DEFAULT '',         -- the outpost that it follows through
    ADD COLUMN IF NOT EXISTS started BIGINT NOT NULL DEFAULT 0,
    ADD COLUMN IF NOT EXISTS gone_at BIGINT NOT NULL DEFAULT 0,
    ADD COLUMN IF NOT EXISTS too_old LONGTEXT NOT NULL DEFAULT '[]',      -- flags that ask for more than it knows
    ADD COLUMN IF NOT EXISTS busy_unit VARCHAR(1000) NOT NULL DEFAULT '', -- a unit that makes most of its calls
    ADD COLUMN IF NOT EXISTS busy_calls BIGINT NOT NULL DEFAULT 0,
    ADD COLUMN IF NOT EXISTS busy_of BIGINT NOT NULL DEFAULT 0,
    ADD COLUMN IF NOT EXISTS streams BIGINT NOT NULL DEFAULT 0,           -- of browsers, that a node or an outpost has open
    ADD COLUMN IF NOT EXISTS pollers BIGINT NOT NULL DEFAULT 0,           -- units that asked it for answers of late
    ADD KEY IF NOT EXISTS environment_id (environment_id, gone, seen);
UPDATE instances SET started = seen, gone_at = IF(gone, seen, 0) WHERE started = 0;
CREATE TABLE IF NOT EXISTS applied (
    environment_id BIGINT NOT NULL,
    instance VARCHAR(64) NOT NULL,
    epoch BIGINT NOT NULL,
    revision BIGINT NOT NULL,
    at BIGINT NOT NULL,
    PRIMARY KEY (environment_id, instance, epoch, revision),
    KEY (at)
);
CREATE TABLE IF NOT EXISTS deliveries (
    environment_id BIGINT NOT NULL,
    epoch BIGINT NOT NULL,
    revision BIGINT NOT NULL,
    at BIGINT NOT NULL,
    body LONGTEXT NOT NULL,
    PRIMARY KEY (environment_id, epoch, revision)
);
-- What is older than this table needs no entry of its delivery.
INSERT IGNORE INTO deliveries (environment_id, epoch, revision, at, body)
    SELECT e.id, i.epoch, e.revision, 0, '{}' FROM environments e, installation i WHERE e.revision > 0;
CREATE TABLE IF NOT EXISTS use_kinds (
    environment_id BIGINT NOT NULL,
    kind BINARY(16) NOT NULL, -- digest of the rest
    flag VARCHAR(100) NOT NULL,
    variant VARCHAR(64) NOT NULL,
    reason VARCHAR(20) NOT NULL,
    rule VARCHAR(64) NOT NULL,
    revision BIGINT NOT NULL,
    application VARCHAR(100) NOT NULL,
    version VARCHAR(100) NOT NULL,
    PRIMARY KEY (environment_id, kind),
    KEY (environment_id, flag)
);
CREATE TABLE IF NOT EXISTS uses (
    environment_id BIGINT NOT NULL,
    span INT NOT NULL,      -- minutes that a row stands for: 1, 60 or 1440
    minute BIGINT NOT NULL, -- Unix minutes, the first of the span
    kind BINARY(16) NOT NULL,
    count BIGINT NOT NULL,
    PRIMARY KEY (environment_id, span, minute, kind)
);
-- Where the step is repeated after the old table was dropped, there is nothing to carry over.
CREATE TABLE IF NOT EXISTS counts (environment_id BIGINT NOT NULL, minute BIGINT NOT NULL, flag VARCHAR(100) NOT NULL, variant VARCHAR(64) NOT NULL, count BIGINT NOT NULL);
INSERT IGNORE INTO use_kinds (environment_id, kind, flag, variant, reason, rule, revision, application, version)
    SELECT DISTINCT environment_id, UNHEX(MD5(CONCAT(flag, ' ', variant))), flag, variant, '', '', 0, '', '' FROM counts;
INSERT IGNORE INTO uses (environment_id, span, minute, kind, count) SELECT environment_id, 1, minute, UNHEX(MD5(CONCAT(flag, ' ', variant))), count FROM counts;
DROP TABLE counts;
ALTER TABLE asked
    ADD COLUMN IF NOT EXISTS type VARCHAR(10) NOT NULL DEFAULT '',  -- that the code asked for
    ADD COLUMN IF NOT EXISTS fallback TEXT NOT NULL DEFAULT '',     -- as JSON, that the code gave
    ADD COLUMN IF NOT EXISTS application VARCHAR(100) NOT NULL DEFAULT '',
    ADD COLUMN IF NOT EXISTS mistyped BIGINT NOT NULL DEFAULT 0;    -- when it was last asked for as another type
ALTER TABLE access_keys ADD COLUMN IF NOT EXISTS origins TEXT NOT NULL DEFAULT '[]';
CREATE TABLE IF NOT EXISTS leases (
    name VARCHAR(40) PRIMARY KEY,
    holder VARCHAR(64) NOT NULL,
    fence BIGINT NOT NULL,
    until DATETIME(6) NOT NULL
);
