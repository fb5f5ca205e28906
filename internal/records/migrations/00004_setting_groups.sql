-- +goose Up
-- Settings in groups: packaging, outputs, access. Null is taken for the default.
UPDATE channels SET settings = JSON_REMOVE(
  JSON_SET(settings,
    '$.packaging', JSON_OBJECT(
      'segmentMillis', JSON_EXTRACT(settings, '$.segmentMillis'),
      'partMillis', JSON_EXTRACT(settings, '$.partMillis'),
      'window', JSON_EXTRACT(settings, '$.window'),
      'startOffsetMillis', JSON_EXTRACT(settings, '$.startOffsetMillis'),
      'aligned', JSON_EXTRACT(settings, '$.aligned'),
      'partFiles', JSON_EXTRACT(settings, '$.partFiles'),
      'numbered', JSON_EXTRACT(settings, '$.numbered'),
      'soundName', JSON_EXTRACT(settings, '$.soundName'),
      'language', JSON_EXTRACT(settings, '$.language'),
      'coverEvery', JSON_EXTRACT(settings, '$.coverEvery')),
    '$.outputs', JSON_OBJECT(
      'ts', JSON_EXTRACT(settings, '$.ts'),
      'selections', JSON_EXTRACT(settings, '$.selections')),
    '$.access', JSON_OBJECT('closed', JSON_EXTRACT(settings, '$.closed'))),
  '$.segmentMillis', '$.partMillis', '$.window', '$.startOffsetMillis', '$.aligned', '$.partFiles', '$.numbered',
  '$.soundName', '$.language', '$.coverEvery', '$.ts', '$.selections', '$.closed')
WHERE JSON_EXTRACT(settings, '$.packaging') IS NULL;

-- +goose Down
UPDATE channels SET settings = JSON_REMOVE(
  JSON_MERGE_PATCH(settings, JSON_EXTRACT(settings, '$.packaging'), JSON_EXTRACT(settings, '$.outputs'), JSON_EXTRACT(settings, '$.access')),
  '$.packaging', '$.outputs', '$.access')
WHERE JSON_EXTRACT(settings, '$.packaging') IS NOT NULL;
