-- +goose Up
-- Named ladder plans; each change is a version of its own.
CREATE TABLE IF NOT EXISTS plans (
	name VARCHAR(31) CHARACTER SET ascii NOT NULL,
	version INT NOT NULL,
	body MEDIUMTEXT NOT NULL,
	author VARCHAR(64) NOT NULL,
	created DATETIME(3) NOT NULL,
	PRIMARY KEY (name, version)
);
-- Images for logos and slates.
CREATE TABLE IF NOT EXISTS images (
	name VARCHAR(31) CHARACTER SET ascii NOT NULL PRIMARY KEY,
	file MEDIUMBLOB NOT NULL,
	created DATETIME(3) NOT NULL
);

-- +goose Down
DROP TABLE images;
DROP TABLE plans;
