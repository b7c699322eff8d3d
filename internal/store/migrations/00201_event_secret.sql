-- +goose Up
-- The secret that event ids are authenticated with. It goes with a backup, so that a restored
-- service knows what followers of the lost revisions say.
ALTER TABLE installation ADD COLUMN IF NOT EXISTS secret VARBINARY(32) NOT NULL DEFAULT '';
