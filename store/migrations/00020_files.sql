-- +goose Up
-- Files that are kept for a while beside the records, encrypted: scripts by which a database
-- is filled, exports of databases. The key of each is sealed here.
CREATE TABLE files (
  id         VARCHAR(32) NOT NULL COLLATE utf8mb4_bin,
  kind       VARCHAR(16) NOT NULL,
  server     VARCHAR(64) NOT NULL,
  subject    VARCHAR(700) NOT NULL,
  operator   VARCHAR(64) NOT NULL,
  size       BIGINT NOT NULL,
  about      MEDIUMTEXT NOT NULL,
  sealed_key VARBINARY(2048) NOT NULL,
  created_at DATETIME(6) NOT NULL,
  keep_until DATETIME(6) NULL,
  PRIMARY KEY (id),
  KEY files_kind (kind, created_at)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- +goose Down
DROP TABLE files;
