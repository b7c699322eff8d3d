-- +goose Up
ALTER TABLE asked ADD KEY IF NOT EXISTS by_age (last);
