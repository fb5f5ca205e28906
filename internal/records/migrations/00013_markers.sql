-- +goose Up
-- What was marked on channels, so that it is known after a restart; content is JSON.
CREATE TABLE IF NOT EXISTS markers (
	channel_id BIGINT UNSIGNED NOT NULL,
	id VARCHAR(80) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
	at BIGINT NOT NULL,
	content TEXT NOT NULL,
	PRIMARY KEY (channel_id, id),
	KEY (channel_id, at),
	FOREIGN KEY (channel_id) REFERENCES channels (id) ON DELETE CASCADE
) CHARACTER SET utf8mb4;

-- +goose Down
DROP TABLE markers;
