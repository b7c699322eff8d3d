-- +goose Up
-- What a token is held to, as JSON. Nothing: all that its account may do. The digests of such tokens are made in another
-- way, so that an older release, which would not hold them to it, does not know them.
ALTER TABLE tokens ADD COLUMN IF NOT EXISTS narrow TEXT NULL;
