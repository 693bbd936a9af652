-- create_marker_database: create database genarch_identity
CREATE DATABASE `genarch_identity`
  CHARACTER SET utf8mb4
  COLLATE utf8mb4_bin
-- undo: DROP DATABASE `genarch_identity`

-- create_marker_table: create its table
CREATE TABLE `genarch_identity`.`marker` (
  id CHAR(36) CHARACTER SET ascii NOT NULL PRIMARY KEY,
  made TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP
)
-- undo: DROP TABLE `genarch_identity`.`marker`

-- write_marker: write the mark
INSERT INTO `genarch_identity`.`marker` (id) VALUES ('222d11d3-fc39-48bf-8c14-a8d0f59f9d52')
-- undo: DELETE FROM `genarch_identity`.`marker` WHERE id = '222d11d3-fc39-48bf-8c14-a8d0f59f9d52'

-- verify_marker: read the mark back

-- undo: 

