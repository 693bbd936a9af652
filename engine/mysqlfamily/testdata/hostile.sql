-- create_database: create database a`; x
CREATE DATABASE `a``; x`
  CHARACTER SET latin1
  COLLATE latin1_swedish_ci
  COMMENT 'it''s \\ "so"'
-- undo: DROP DATABASE `a``; x`

-- verify: read back and compare

-- undo: 

