-- +goose Up
ALTER TABLE deliveries ADD KEY IF NOT EXISTS by_age (at);
