-- +goose Up
ALTER TABLE instances ADD KEY IF NOT EXISTS by_leaving (gone, gone_at), ADD KEY IF NOT EXISTS by_age (seen);
