-- +goose Up
-- What servers and databases were over time: a row when something differs from the row
-- before, at most one in ten minutes; the server itself, with an empty name, always.
CREATE TABLE history (
  server_id BIGINT UNSIGNED NOT NULL,
  name      VARCHAR(400) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  at        DATETIME NOT NULL,
  size      BIGINT UNSIGNED NULL,
  sessions  INT UNSIGNED NOT NULL,
  PRIMARY KEY (server_id, name, at), KEY (at),
  FOREIGN KEY (server_id) REFERENCES servers (id) ON DELETE CASCADE
);

-- +goose Down
DROP TABLE history;
