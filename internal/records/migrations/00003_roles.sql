-- +goose Up
-- What a user may do, and what a token of his may do at most.
ALTER TABLE users ADD COLUMN IF NOT EXISTS role VARCHAR(16) CHARACTER SET ascii NOT NULL DEFAULT 'administer';
ALTER TABLE tokens ADD COLUMN IF NOT EXISTS role VARCHAR(16) CHARACTER SET ascii NOT NULL DEFAULT 'administer';

-- +goose Down
ALTER TABLE tokens DROP COLUMN role;
ALTER TABLE users DROP COLUMN role;
