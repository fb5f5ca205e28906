-- +goose Up
-- Programs that are told what happens. Body is JSON; the secret in it is encrypted.
CREATE TABLE IF NOT EXISTS hooks (
	id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
	body TEXT NOT NULL,
	created DATETIME(3) NOT NULL
) CHARACTER SET utf8mb4;

-- +goose Down
DROP TABLE hooks;
