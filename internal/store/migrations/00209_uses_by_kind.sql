-- +goose Up
ALTER TABLE uses ADD KEY IF NOT EXISTS by_kind (environment_id, kind, minute);
