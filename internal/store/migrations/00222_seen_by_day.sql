-- +goose Up
ALTER TABLE seen_attributes ADD KEY IF NOT EXISTS by_day (day);
