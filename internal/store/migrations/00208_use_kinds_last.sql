-- +goose Up
UPDATE use_kinds SET last = UNIX_TIMESTAMP() DIV 60 WHERE last = 0;
