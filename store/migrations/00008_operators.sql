-- +goose Up
-- The remit approve could be given and was asked for nowhere: it is gone until
-- there is something to approve. Tokens got by signing in end with the password;
-- any may be narrowed. Sessions end when nobody uses them. What others do to an
-- account is told to its owner.
UPDATE operators SET remits = JSON_REMOVE(remits, JSON_UNQUOTE(JSON_SEARCH(remits, 'one', 'approve'))) WHERE JSON_SEARCH(remits, 'one', 'approve') IS NOT NULL;
ALTER TABLE tokens ADD COLUMN login BOOLEAN NOT NULL DEFAULT FALSE, ADD COLUMN token_remits JSON NOT NULL DEFAULT '[]', ADD COLUMN from_networks JSON NOT NULL DEFAULT '[]';
ALTER TABLE console_sessions ADD COLUMN id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT UNIQUE, ADD COLUMN used_at DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6),
  ADD COLUMN address VARCHAR(64) NOT NULL DEFAULT '';
CREATE TABLE operator_notices (
  id       BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  operator VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  at       DATETIME(6) NOT NULL,
  text     VARCHAR(500) NOT NULL,
  KEY (operator),
  FOREIGN KEY (operator) REFERENCES operators (name)
);

-- +goose Down
DROP TABLE operator_notices;
