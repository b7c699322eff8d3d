-- +goose Up
-- Nodes were instances before.
DELETE FROM instances WHERE kind = 'service';
