-- +goose Up
-- What the target of a change is called afterwards, where that is another name:
-- the history of a database goes on under it.
ALTER TABLE changes ADD COLUMN becomes VARCHAR(1000) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL DEFAULT '' AFTER target, ADD KEY (becomes(200));
UPDATE changes SET becomes = CONCAT(server, '/', JSON_VALUE(intent, '$.database.new_name')) WHERE kind = 'database.rename';

-- +goose Down
ALTER TABLE changes DROP COLUMN becomes;
