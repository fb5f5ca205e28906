-- +goose NO TRANSACTION
-- +goose Up
-- Keys that let receivers have a channel, and nobody send.
ALTER TABLE contribution_keys ADD COLUMN IF NOT EXISTS receives BOOLEAN NOT NULL DEFAULT FALSE;

-- +goose Down
ALTER TABLE contribution_keys DROP COLUMN IF EXISTS receives;
