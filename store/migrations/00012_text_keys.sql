-- +goose Up
-- What an engine tells an object by is a text: a number on one, a name of its own on another.
ALTER TABLE changes MODIFY object_key VARCHAR(200) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL;
UPDATE changes SET object_key = '' WHERE object_key = '0';

-- +goose Down
UPDATE changes SET object_key = '0' WHERE object_key NOT REGEXP '^[0-9]+$';
ALTER TABLE changes MODIFY object_key BIGINT UNSIGNED NOT NULL;
