-- +goose Up
-- When somebody was last seen in a database or as an account, and how long the
-- server has been watched. Names are compared to the last blank.
CREATE TABLE watched_servers (
  server_id     BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  identity      VARCHAR(400) NOT NULL,
  since_at      DATETIME(6) NOT NULL,
  until_at      DATETIME(6) NOT NULL,
  blind_seconds BIGINT UNSIGNED NOT NULL,
  CONSTRAINT watched_server FOREIGN KEY (server_id) REFERENCES servers (id) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;

CREATE TABLE last_uses (
  server_id BIGINT UNSIGNED NOT NULL,
  kind      VARCHAR(8) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  name      VARCHAR(300) NOT NULL,
  host      VARCHAR(300) NOT NULL,
  seen_at   DATETIME(6) NOT NULL,
  PRIMARY KEY (server_id, kind, name, host),
  CONSTRAINT last_use_server FOREIGN KEY (server_id) REFERENCES watched_servers (server_id) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;

-- +goose Down
DROP TABLE last_uses, watched_servers;
