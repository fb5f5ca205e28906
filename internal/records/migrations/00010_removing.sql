-- +goose NO TRANSACTION
-- +goose Up
-- What is to go is remembered until it is gone.
ALTER TABLE bundles ADD COLUMN IF NOT EXISTS removing BOOLEAN NOT NULL DEFAULT FALSE;
-- Rows of one length are thinned by their age.
ALTER TABLE statistics ADD KEY IF NOT EXISTS by_age (seconds, at);

-- +goose Down
ALTER TABLE statistics DROP KEY IF EXISTS by_age;
ALTER TABLE bundles DROP COLUMN IF EXISTS removing;
