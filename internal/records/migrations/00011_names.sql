-- +goose NO TRANSACTION
-- +goose Up
-- What stands for a recording in addresses, and cannot be guessed.
ALTER TABLE recordings ADD COLUMN IF NOT EXISTS name VARCHAR(32) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '';
UPDATE recordings SET name = LOWER(HEX(RANDOM_BYTES(13))) WHERE name = '';

-- +goose Down
ALTER TABLE recordings DROP COLUMN IF EXISTS name;
