-- +goose Up
-- Passwords that a change needs, sealed. They are gone when the change has ended
-- without effect, when they were shown, or when nobody asked for them in time.
CREATE TABLE change_secrets (
  change_id      BIGINT UNSIGNED NOT NULL,
  account        VARCHAR(400) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  given          BOOLEAN NOT NULL,
  sealed         VARBINARY(2048) NOT NULL,
  keep_until     DATETIME(6) NOT NULL,
  PRIMARY KEY (change_id, account),
  KEY (keep_until),
  FOREIGN KEY (change_id) REFERENCES changes (id)
);

-- +goose Down
DROP TABLE change_secrets;
