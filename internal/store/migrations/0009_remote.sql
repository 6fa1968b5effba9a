-- +goose Up
-- A remote server has several machines, and a client one certificate for all protocols over TLS.
UPDATE objects SET body = CAST(json_remove(json_set(CAST(body AS TEXT), '$.servers', json_array(json_object('address',
  json_extract(CAST(body AS TEXT), '$.address'), 'weight', 1)), '$.rules', json_array(), '$.deadSeconds', 30,
  '$.probeSeconds', 20), '$.address') AS BLOB)
  WHERE kind = 'remote' AND json_extract(CAST(body AS TEXT), '$.address') IS NOT NULL;
UPDATE draft_objects SET body = CAST(json_remove(json_set(CAST(body AS TEXT), '$.servers', json_array(json_object(
  'address', json_extract(CAST(body AS TEXT), '$.address'), 'weight', 1)), '$.rules', json_array(), '$.deadSeconds', 30,
  '$.probeSeconds', 20), '$.address') AS BLOB)
  WHERE kind = 'remote' AND body IS NOT NULL AND json_extract(CAST(body AS TEXT), '$.address') IS NOT NULL;
UPDATE objects SET body = CAST(replace(replace(replace(CAST(body AS TEXT), '"tacacsNames":', '"tlsNames":'),
  '"tacacsCertificate":', '"tlsCertificate":'), '"tacacsTrust":', '"tlsTrust":') AS BLOB) WHERE kind = 'client';
UPDATE draft_objects SET body = CAST(replace(replace(replace(CAST(body AS TEXT), '"tacacsNames":', '"tlsNames":'),
  '"tacacsCertificate":', '"tlsCertificate":'), '"tacacsTrust":', '"tlsTrust":') AS BLOB)
  WHERE kind = 'client' AND body IS NOT NULL;

-- Up to which record each feed, and each remote server that accounting is forwarded to, has been sent.
CREATE TABLE positions (
  name TEXT NOT NULL,
  kind TEXT NOT NULL,
  id   INTEGER NOT NULL,
  at   INTEGER NOT NULL,              -- when that record was made, milliseconds since 1970
  PRIMARY KEY (name, kind)
) WITHOUT ROWID;
