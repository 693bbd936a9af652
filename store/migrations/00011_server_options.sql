-- +goose Up
-- What is an engine's own of a registration goes by its name, and clients may have
-- addresses other than Genarch's.
ALTER TABLE servers ADD COLUMN options JSON NOT NULL DEFAULT '{}' AFTER admin,
  ADD COLUMN client_addresses JSON NOT NULL DEFAULT '[]' AFTER options;
UPDATE servers SET options = JSON_MERGE_PATCH(
  IF(database_name <> '', JSON_OBJECT('database', database_name), '{}'),
  IF(weak_sign_in, '{"weak_sign_in": true}', '{}'));
ALTER TABLE servers DROP COLUMN database_name, DROP COLUMN weak_sign_in;

-- +goose Down
ALTER TABLE servers ADD COLUMN database_name VARCHAR(64) NOT NULL DEFAULT '' AFTER admin,
  ADD COLUMN weak_sign_in BOOLEAN NOT NULL DEFAULT FALSE AFTER ca;
UPDATE servers SET database_name = COALESCE(JSON_VALUE(options, '$.database'), ''),
  weak_sign_in = COALESCE(JSON_VALUE(options, '$.weak_sign_in'), 0) = 1;
ALTER TABLE servers DROP COLUMN options, DROP COLUMN client_addresses;
