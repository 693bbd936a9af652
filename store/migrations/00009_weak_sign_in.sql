-- +goose Up
-- Whether a server may ask for the password in a form that gives it away.
ALTER TABLE servers ADD COLUMN weak_sign_in BOOLEAN NOT NULL DEFAULT FALSE AFTER ca;

-- +goose Down
ALTER TABLE servers DROP COLUMN weak_sign_in;
