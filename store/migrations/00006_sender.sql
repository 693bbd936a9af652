-- +goose Up
-- The session that sent a step: while it lives, the server may still do it.
ALTER TABLE change_steps ADD COLUMN sender JSON NULL AFTER clearing;

-- +goose Down
ALTER TABLE change_steps DROP COLUMN sender;
