-- +goose Up
CREATE TABLE attributes (
    project_id BIGINT NOT NULL REFERENCES projects (id),
    attribute VARCHAR(200) NOT NULL,
    version BIGINT NOT NULL,
    body LONGTEXT NOT NULL,
    PRIMARY KEY (project_id, attribute)
);
CREATE TABLE seen_attributes (
    environment_id BIGINT NOT NULL,
    day BIGINT NOT NULL,            -- Unix days
    attribute VARCHAR(200) NOT NULL, -- empty: the contexts that were looked at
    body LONGTEXT NOT NULL,
    PRIMARY KEY (environment_id, day, attribute)
);
CREATE TABLE sampling (
    environment_id BIGINT PRIMARY KEY,
    seed BIGINT UNSIGNED NOT NULL,  -- of the hashes that units are sampled by
    see_as VARBINARY(32) NOT NULL,  -- seed of the key that overrides are signed with
    off BOOLEAN NOT NULL DEFAULT FALSE,
    days INT NOT NULL DEFAULT 7
);
CREATE TABLE population (
    environment_id BIGINT NOT NULL,
    attribute VARCHAR(200) NOT NULL, -- what the unit is of: the targeting key, or what shares are drawn by
    hash BIGINT UNSIGNED NOT NULL,
    unit VARCHAR(1000) NOT NULL,
    context LONGTEXT NOT NULL,
    seen BIGINT NOT NULL,
    PRIMARY KEY (environment_id, attribute, hash),
    KEY (environment_id, seen)
);
CREATE TABLE population_covers (
    environment_id BIGINT NOT NULL,
    attribute VARCHAR(200) NOT NULL,
    collected BIGINT UNSIGNED NOT NULL,
    used BIGINT UNSIGNED NOT NULL,
    since BIGINT NOT NULL,
    PRIMARY KEY (environment_id, attribute)
);
CREATE TABLE asked (
    environment_id BIGINT NOT NULL,
    flag VARCHAR(200) NOT NULL,
    first BIGINT NOT NULL,
    last BIGINT NOT NULL,
    PRIMARY KEY (environment_id, flag)
);
CREATE TABLE lists (
    digest CHAR(64) NOT NULL,
    kind VARCHAR(8) NOT NULL, -- hashes, as followers get them; or units, the exact list, packed
    part INT NOT NULL,
    body MEDIUMBLOB NOT NULL,
    PRIMARY KEY (digest, kind, part)
);
CREATE TABLE test_units (
    project_id BIGINT NOT NULL REFERENCES projects (id),
    unit VARCHAR(200) NOT NULL,
    name VARCHAR(200) NOT NULL,
    context LONGTEXT NOT NULL,
    expected LONGTEXT NOT NULL, -- variants by flag
    PRIMARY KEY (project_id, unit)
);

-- +goose Down
DROP TABLE test_units, lists, asked, population_covers, population, sampling, seen_attributes, attributes;
