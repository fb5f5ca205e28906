-- +goose Up
-- What channels did, a row for each minute; rows become longer with age.
CREATE TABLE IF NOT EXISTS statistics (
	channel VARCHAR(63) CHARACTER SET ascii NOT NULL,
	seconds INT UNSIGNED NOT NULL,
	at BIGINT NOT NULL,
	live INT UNSIGNED NOT NULL,
	bitrate BIGINT NOT NULL,
	worker_load BIGINT NOT NULL,
	viewers BIGINT NOT NULL,
	peak BIGINT NOT NULL,
	PRIMARY KEY (channel, seconds, at),
	KEY (at)
);

-- +goose Down
DROP TABLE statistics;
