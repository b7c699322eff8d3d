-- +goose Up
ALTER TABLE audit
    ADD KEY IF NOT EXISTS by_environment (project_id, environment_id, at),
    ADD KEY IF NOT EXISTS by_subject (project_id, subject, at),
    ADD KEY IF NOT EXISTS by_actor (project_id, actor, at),
    ADD KEY IF NOT EXISTS by_action (chain, action);
