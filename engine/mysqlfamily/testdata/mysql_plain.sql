-- create_database: create database lounges_prod
CREATE DATABASE `lounges_prod`
  CHARACTER SET latin1
  COLLATE latin1_swedish_ci
-- undo: DROP DATABASE `lounges_prod`

-- verify: read back and compare

-- undo: 

