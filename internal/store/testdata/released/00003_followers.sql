-- +goose Up
ALTER TABLE instances
    ADD kind VARCHAR(20) NOT NULL DEFAULT '',        -- empty: an application; outpost; service
    ADD via VARCHAR(64) NOT NULL DEFAULT '',         -- the outpost that it follows through
    ADD started BIGINT NOT NULL DEFAULT 0,
    ADD gone_at BIGINT NOT NULL DEFAULT 0,
    ADD too_old LONGTEXT NOT NULL DEFAULT '[]',      -- flags that ask for more than it knows
    ADD busy_unit VARCHAR(1000) NOT NULL DEFAULT '', -- a unit that makes most of its calls
    ADD busy_calls BIGINT NOT NULL DEFAULT 0,
    ADD busy_of BIGINT NOT NULL DEFAULT 0,
    ADD streams BIGINT NOT NULL DEFAULT 0,           -- of browsers, that a node or an outpost has open
    ADD pollers BIGINT NOT NULL DEFAULT 0,           -- units that asked it for answers of late
    ADD KEY (environment_id, gone, seen);
UPDATE instances SET started = seen, gone_at = IF(gone, seen, 0);
CREATE TABLE applied (
    environment_id BIGINT NOT NULL,
    instance VARCHAR(64) NOT NULL,
    epoch BIGINT NOT NULL,
    revision BIGINT NOT NULL,
    at BIGINT NOT NULL,
    PRIMARY KEY (environment_id, instance, epoch, revision),
    KEY (at)
);
CREATE TABLE deliveries (
    environment_id BIGINT NOT NULL,
    epoch BIGINT NOT NULL,
    revision BIGINT NOT NULL,
    at BIGINT NOT NULL,
    body LONGTEXT NOT NULL,
    PRIMARY KEY (environment_id, epoch, revision)
);
-- What is older than this table needs no entry of its delivery.
INSERT INTO deliveries (environment_id, epoch, revision, at, body)
    SELECT e.id, i.epoch, e.revision, 0, '{}' FROM environments e, installation i WHERE e.revision > 0;
CREATE TABLE use_kinds (
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
CREATE TABLE uses (
    environment_id BIGINT NOT NULL,
    span INT NOT NULL,      -- minutes that a row stands for: 1, 60 or 1440
    minute BIGINT NOT NULL, -- Unix minutes, the first of the span
    kind BINARY(16) NOT NULL,
    count BIGINT NOT NULL,
    PRIMARY KEY (environment_id, span, minute, kind)
);
INSERT INTO use_kinds SELECT DISTINCT environment_id, UNHEX(MD5(CONCAT(flag, ' ', variant))), flag, variant, '', '', 0, '', '' FROM counts;
INSERT INTO uses SELECT environment_id, 1, minute, UNHEX(MD5(CONCAT(flag, ' ', variant))), count FROM counts;
DROP TABLE counts;
ALTER TABLE asked
    ADD type VARCHAR(10) NOT NULL DEFAULT '',  -- that the code asked for
    ADD fallback TEXT NOT NULL DEFAULT '',     -- as JSON, that the code gave
    ADD application VARCHAR(100) NOT NULL DEFAULT '',
    ADD mistyped BIGINT NOT NULL DEFAULT 0;    -- when it was last asked for as another type
ALTER TABLE access_keys ADD origins TEXT NOT NULL DEFAULT '[]';
CREATE TABLE leases (
    name VARCHAR(40) PRIMARY KEY,
    holder VARCHAR(64) NOT NULL,
    fence BIGINT NOT NULL,
    until DATETIME(6) NOT NULL
);

-- +goose Down
DROP TABLE leases, uses, use_kinds, deliveries, applied;
ALTER TABLE access_keys DROP origins;
ALTER TABLE asked DROP type, DROP fallback, DROP application, DROP mistyped;
ALTER TABLE instances DROP KEY environment_id, DROP kind, DROP via, DROP started, DROP gone_at, DROP too_old, DROP busy_unit, DROP busy_calls, DROP busy_of, DROP streams, DROP pollers;
CREATE TABLE counts (
    environment_id BIGINT NOT NULL,
    minute BIGINT NOT NULL,
    flag VARCHAR(100) NOT NULL,
    variant VARCHAR(64) NOT NULL,
    count BIGINT NOT NULL,
    PRIMARY KEY (environment_id, minute, flag, variant)
);
