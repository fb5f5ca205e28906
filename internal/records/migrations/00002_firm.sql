-- +goose Up
-- Like events are one row: how often it happened, and when last.
ALTER TABLE events
  ADD COLUMN IF NOT EXISTS count INT UNSIGNED NOT NULL DEFAULT 1,
  ADD COLUMN IF NOT EXISTS last DATETIME(3) NULL,
  ADD KEY IF NOT EXISTS at (at);

-- Changes name the revision that they are based on.
ALTER TABLE channels ADD COLUMN IF NOT EXISTS revision BIGINT UNSIGNED NOT NULL DEFAULT 1;

-- Where the numbering of removed channels stood, so that one made again under the same name goes on behind it.
CREATE TABLE IF NOT EXISTS numbering (
  slug VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL PRIMARY KEY,
  next_msn BIGINT UNSIGNED NOT NULL,
  discontinuities BIGINT UNSIGNED NOT NULL,
  removed DATETIME(3) NOT NULL
) CHARACTER SET utf8mb4;

-- +goose Down
DROP TABLE numbering;
ALTER TABLE channels DROP COLUMN revision;
ALTER TABLE events DROP COLUMN count, DROP COLUMN last, DROP KEY at;
