-- +goose Up
-- Recipes for databases. Each version stays as it was put there.
CREATE TABLE blueprints (
  name       VARCHAR(40) NOT NULL COLLATE utf8mb4_bin,
  version    INT NOT NULL,
  text       MEDIUMTEXT NOT NULL,
  operator   VARCHAR(64) NOT NULL,
  removed    BOOLEAN NOT NULL DEFAULT FALSE,
  created_at DATETIME(6) NOT NULL,
  PRIMARY KEY (name, version)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- +goose Down
DROP TABLE blueprints;
