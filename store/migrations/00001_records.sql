-- +goose Up
CREATE TABLE servers (
  id             BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name           VARCHAR(40) CHARACTER SET ascii COLLATE ascii_bin NOT NULL UNIQUE,
  engine         VARCHAR(20) NOT NULL,
  host           VARCHAR(255) NOT NULL,
  port           INT UNSIGNED NOT NULL,
  admin          VARCHAR(128) NOT NULL,
  database_name  VARCHAR(64) NOT NULL,
  environment    VARCHAR(20) NOT NULL,
  labels         JSON NOT NULL,
  tls            VARCHAR(20) NOT NULL,
  ca             MEDIUMTEXT NOT NULL,
  name_rule      JSON NOT NULL,
  identity       JSON NOT NULL,
  sealed_secret  VARBINARY(8192) NOT NULL,
  row_version    INT UNSIGNED NOT NULL DEFAULT 1,
  created_at     DATETIME(6) NOT NULL,
  updated_at     DATETIME(6) NOT NULL
);
CREATE TABLE operators (
  name           VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL PRIMARY KEY,
  password_hash  VARCHAR(255) NOT NULL,
  remits         JSON NOT NULL,
  program        BOOLEAN NOT NULL,
  disabled       BOOLEAN NOT NULL,
  created_at     DATETIME(6) NOT NULL
);
CREATE TABLE tokens (
  id             BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  operator       VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  title          VARCHAR(100) NOT NULL,
  hash           CHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL UNIQUE,
  created_at     DATETIME(6) NOT NULL,
  expires_at     DATETIME(6) NULL,
  last_used_at   DATETIME(6) NULL,
  revoked_at     DATETIME(6) NULL,
  FOREIGN KEY (operator) REFERENCES operators (name)
);
CREATE TABLE console_sessions (
  hash           CHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL PRIMARY KEY,
  operator       VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  csrf           CHAR(64) CHARACTER SET ascii NOT NULL,
  created_at     DATETIME(6) NOT NULL,
  expires_at     DATETIME(6) NOT NULL,
  KEY (expires_at),
  FOREIGN KEY (operator) REFERENCES operators (name)
);
CREATE TABLE changes (
  id             BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  kind           VARCHAR(40) NOT NULL,
  server         VARCHAR(40) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  target         VARCHAR(1000) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  state          VARCHAR(20) NOT NULL,
  operator       VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  run_by         VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  intent         JSON NOT NULL,
  brief          JSON NOT NULL,
  accepted       JSON NOT NULL,
  failure        JSON NULL,
  result         TEXT NOT NULL,
  object_key     BIGINT UNSIGNED NOT NULL,
  idempotency    VARCHAR(200) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NULL,
  created_at     DATETIME(6) NOT NULL,
  started_at     DATETIME(6) NULL,
  ended_at       DATETIME(6) NULL,
  KEY (state), KEY (server, id), KEY (target(200), state),
  UNIQUE KEY (operator, idempotency)
);
CREATE TABLE change_steps (
  change_id      BIGINT UNSIGNED NOT NULL,
  position       INT UNSIGNED NOT NULL,
  status         VARCHAR(20) NOT NULL,
  step           JSON NOT NULL,
  messages       JSON NOT NULL,
  failure        JSON NULL,
  probed         BOOLEAN NOT NULL,
  begun_at       DATETIME(6) NULL,
  ended_at       DATETIME(6) NULL,
  PRIMARY KEY (change_id, position),
  FOREIGN KEY (change_id) REFERENCES changes (id)
);
-- One change at a time works on a target. A claim whose lease has run out
-- belonged to a service that died.
CREATE TABLE claims (
  target         VARCHAR(190) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL PRIMARY KEY,
  change_id      BIGINT UNSIGNED NOT NULL UNIQUE,
  operator       VARCHAR(64) NOT NULL,
  holder         VARCHAR(64) NOT NULL,
  taken_at       DATETIME(6) NOT NULL,
  lease_until    DATETIME(6) NOT NULL,
  FOREIGN KEY (change_id) REFERENCES changes (id)
);
CREATE TABLE journal (
  seq            BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  at             DATETIME(6) NOT NULL,
  operator       VARCHAR(64) NOT NULL,
  action         VARCHAR(40) NOT NULL,
  subject        VARCHAR(1000) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  change_id      BIGINT UNSIGNED NOT NULL,
  detail         MEDIUMTEXT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  prev_hash      CHAR(64) CHARACTER SET ascii NOT NULL,
  hash           CHAR(64) CHARACTER SET ascii NOT NULL,
  KEY (change_id)
);
-- The last entry, locked while one is appended: appending is one after another.
CREATE TABLE journal_head (
  id             TINYINT NOT NULL PRIMARY KEY,
  seq            BIGINT UNSIGNED NOT NULL,
  hash           CHAR(64) CHARACTER SET ascii NOT NULL
);
INSERT INTO journal_head VALUES (1, 0, '');
-- +goose StatementBegin
CREATE TRIGGER journal_keep BEFORE UPDATE ON journal FOR EACH ROW
  SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'the journal is append-only';
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER journal_hold BEFORE DELETE ON journal FOR EACH ROW
  SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'the journal is append-only';
-- +goose StatementEnd

-- +goose Down
DROP TABLE journal_head, journal, claims, change_steps, changes, console_sessions, tokens, operators, servers;
