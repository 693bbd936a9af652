-- statement: revoke SELECT, GRANT OPTION on `gone\_prod`.*
REVOKE SELECT, GRANT OPTION
  ON `gone\_prod`.*
  FROM 'gate'@'10.%'
-- undo: GRANT SELECT
  ON `gone\_prod`.*
  TO 'gate'@'10.%'
  WITH GRANT OPTION

-- create_database: create database gone_prod
CREATE DATABASE `gone_prod`
  CHARACTER SET latin1
  COLLATE latin1_swedish_ci
-- undo: DROP DATABASE `gone_prod`

-- verify: read back and compare

-- undo: 

