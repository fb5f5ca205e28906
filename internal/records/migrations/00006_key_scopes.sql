-- +goose Up
-- What a contribution key is for, and until when.
ALTER TABLE contribution_keys
	ADD COLUMN IF NOT EXISTS input VARCHAR(32) CHARACTER SET ascii NOT NULL DEFAULT '',
	ADD COLUMN IF NOT EXISTS protocol VARCHAR(16) CHARACTER SET ascii NOT NULL DEFAULT '',
	ADD COLUMN IF NOT EXISTS expires DATETIME(3) NULL;

-- +goose Down
ALTER TABLE contribution_keys DROP COLUMN input, DROP COLUMN protocol, DROP COLUMN expires;
