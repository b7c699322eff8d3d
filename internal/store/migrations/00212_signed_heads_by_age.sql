-- +goose Up
ALTER TABLE signed_heads ADD KEY IF NOT EXISTS by_age (at);
