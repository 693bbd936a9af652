-- create_database: create database lounges_prod
CREATE DATABASE `lounges_prod`
  CHARACTER SET latin1
  COLLATE latin1_swedish_ci
-- undo: DROP DATABASE `lounges_prod`

-- statement: grant gate@10.% the bundle own on it
GRANT SELECT, INSERT, UPDATE, DELETE, REFERENCES, TRIGGER, CREATE, EXECUTE, DROP, INDEX, ALTER, CREATE TEMPORARY TABLES, LOCK TABLES, CREATE VIEW, SHOW VIEW, CREATE ROUTINE, ALTER ROUTINE, EVENT
  ON `lounges\_prod`.*
  TO 'gate'@'10.%'
-- undo: REVOKE SELECT, INSERT, UPDATE, DELETE, REFERENCES, TRIGGER, CREATE, EXECUTE, DROP, INDEX, ALTER, CREATE TEMPORARY TABLES, LOCK TABLES, CREATE VIEW, SHOW VIEW, CREATE ROUTINE, ALTER ROUTINE, EVENT
  ON `lounges\_prod`.*
  FROM 'gate'@'10.%'

-- verify: read back and compare

-- undo: 

