-- create_database: create database a
CREATE DATABASE `a`
  CHARACTER SET latin1
  COLLATE latin1_swedish_ci
-- undo: DROP DATABASE `a`

-- verify: read back and compare

-- undo: 

