-- +goose Up
-- Bundles are the files of what was on air; the store knows from here what it has without reading them.
CREATE TABLE IF NOT EXISTS bundles (
	path VARCHAR(255) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
	place VARCHAR(255) NOT NULL,
	channel VARCHAR(63) CHARACTER SET ascii NOT NULL,
	rendition VARCHAR(120) NOT NULL,
	sound VARCHAR(120) NOT NULL,
	prefix VARCHAR(32) CHARACTER SET ascii NOT NULL,
	header VARCHAR(120) CHARACTER SET ascii NOT NULL,
	begun DATETIME(6) NOT NULL,
	ended DATETIME(6) NOT NULL,
	first_msn BIGINT UNSIGNED NOT NULL,
	last_msn BIGINT UNSIGNED NOT NULL,
	ordinal BIGINT UNSIGNED NOT NULL,
	breaks INT UNSIGNED NOT NULL,
	bytes BIGINT NOT NULL,
	PRIMARY KEY (place, path)
) CHARACTER SET utf8mb4;

-- Recordings hold stretches of channels. They stay when a channel is removed.
CREATE TABLE IF NOT EXISTS recordings (
	id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
	channel VARCHAR(63) CHARACTER SET ascii NOT NULL,
	title VARCHAR(200) NOT NULL,
	kind VARCHAR(16) CHARACTER SET ascii NOT NULL,
	renditions TEXT NOT NULL,
	begun DATETIME(3) NOT NULL,
	ended DATETIME(3) NULL,
	expires DATETIME(3) NULL,
	author VARCHAR(120) NOT NULL,
	KEY (channel, begun)
) CHARACTER SET utf8mb4;

-- +goose Down
DROP TABLE recordings;
DROP TABLE bundles;
