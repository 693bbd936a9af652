-- +goose Up
-- Seals of the journal carry the number of their key, so they are longer. A full
-- disk is found out by writing here.
ALTER TABLE journal MODIFY prev_hash VARCHAR(100) CHARACTER SET ascii NOT NULL, MODIFY hash VARCHAR(100) CHARACTER SET ascii NOT NULL,
  ADD COLUMN token_id BIGINT UNSIGNED NOT NULL DEFAULT 0 AFTER detail;
ALTER TABLE journal_head MODIFY hash VARCHAR(100) CHARACTER SET ascii NOT NULL;
CREATE TABLE room_probe (
  id     BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  filler MEDIUMTEXT CHARACTER SET ascii NOT NULL
);

-- +goose Down
DROP TABLE room_probe;
