-- +goose Up
-- What an operator may do is called by the trade's words.
ALTER TABLE operators RENAME COLUMN remits TO permissions;
ALTER TABLE tokens RENAME COLUMN token_remits TO token_permissions;
UPDATE operators SET permissions = REPLACE(REPLACE(REPLACE(permissions, '"see"', '"view"'), '"ask"', '"request"'), '"govern"', '"admin"');
UPDATE tokens SET token_permissions = REPLACE(REPLACE(REPLACE(token_permissions, '"see"', '"view"'), '"ask"', '"request"'), '"govern"', '"admin"');

-- +goose Down
UPDATE tokens SET token_permissions = REPLACE(REPLACE(REPLACE(token_permissions, '"view"', '"see"'), '"request"', '"ask"'), '"admin"', '"govern"');
UPDATE operators SET permissions = REPLACE(REPLACE(REPLACE(permissions, '"view"', '"see"'), '"request"', '"ask"'), '"admin"', '"govern"');
ALTER TABLE tokens RENAME COLUMN token_permissions TO token_remits;
ALTER TABLE operators RENAME COLUMN permissions TO remits;
