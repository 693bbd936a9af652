-- +goose Up
-- What a server's registration says of what is set aside there.
ALTER TABLE servers ADD COLUMN keeping JSON NOT NULL DEFAULT '{"days":0,"discard":false}' AFTER name_rule;

-- +goose Down
ALTER TABLE servers DROP COLUMN keeping;
