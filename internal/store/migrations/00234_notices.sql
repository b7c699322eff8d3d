-- +goose Up
-- What is to be told to webhooks, written with the change that it tells of. State: 0 waits, 1 arrived, 2 parked.
CREATE TABLE IF NOT EXISTS notices (
    id BIGINT NOT NULL AUTO_INCREMENT,
    webhook VARCHAR(36) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    lane TINYINT NOT NULL,
    state TINYINT NOT NULL,
    due BIGINT NOT NULL,
    attempts INT NOT NULL,
    answer VARCHAR(200) NOT NULL,
    sent BIGINT NOT NULL,
    project_id BIGINT NOT NULL,
    environment_id BIGINT NOT NULL,
    event VARCHAR(60) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    sequence BIGINT NOT NULL,
    at BIGINT NOT NULL,
    since BIGINT NOT NULL,
    action VARCHAR(60) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    subject VARCHAR(200) NOT NULL,
    body MEDIUMTEXT NOT NULL,
    PRIMARY KEY (id),
    KEY heads (state, webhook, lane, id),
    KEY newest (webhook, id),
    KEY old (state, at)
);
