-- +goose Up
-- Which of several new variants a unit has.
ALTER TABLE exposures ADD COLUMN IF NOT EXISTS way TINYINT UNSIGNED NOT NULL DEFAULT 0;
