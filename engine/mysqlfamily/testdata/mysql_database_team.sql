-- create_role: create role lounges_owner
CREATE ROLE 'lounges_owner'@'%'
-- undo: DROP ROLE 'lounges_owner'@'%'

-- create_account: create account lounges_app@10.0.0.%
CREATE USER 'lounges_app'@'10.0.0.%'
  IDENTIFIED WITH caching_sha2_password AS '••••••'
-- undo: DROP USER 'lounges_app'@'10.0.0.%'

-- create_account: create account lounges_read@10.0.0.%
CREATE USER 'lounges_read'@'10.0.0.%'
  IDENTIFIED WITH caching_sha2_password AS '••••••'
-- undo: DROP USER 'lounges_read'@'10.0.0.%'

-- create_database: create database lounges_prod
CREATE DATABASE `lounges_prod`
  CHARACTER SET latin1
  COLLATE latin1_swedish_ci
-- undo: DROP DATABASE `lounges_prod`

-- statement: grant lounges_owner@% the bundle own on it
GRANT SELECT, INSERT, UPDATE, DELETE, REFERENCES, TRIGGER, CREATE, EXECUTE, DROP, INDEX, ALTER, CREATE TEMPORARY TABLES, LOCK TABLES, CREATE VIEW, SHOW VIEW, CREATE ROUTINE, ALTER ROUTINE, EVENT
  ON `lounges\_prod`.*
  TO 'lounges_owner'@'%'
-- undo: REVOKE SELECT, INSERT, UPDATE, DELETE, REFERENCES, TRIGGER, CREATE, EXECUTE, DROP, INDEX, ALTER, CREATE TEMPORARY TABLES, LOCK TABLES, CREATE VIEW, SHOW VIEW, CREATE ROUTINE, ALTER ROUTINE, EVENT
  ON `lounges\_prod`.*
  FROM 'lounges_owner'@'%'

-- statement: grant lounges_app@10.0.0.% the bundle write on it
GRANT SELECT, INSERT, UPDATE, DELETE, EXECUTE, CREATE TEMPORARY TABLES, LOCK TABLES, SHOW VIEW
  ON `lounges\_prod`.*
  TO 'lounges_app'@'10.0.0.%'
-- undo: REVOKE SELECT, INSERT, UPDATE, DELETE, EXECUTE, CREATE TEMPORARY TABLES, LOCK TABLES, SHOW VIEW
  ON `lounges\_prod`.*
  FROM 'lounges_app'@'10.0.0.%'

-- statement: grant lounges_read@10.0.0.% the bundle read on it
GRANT SELECT, SHOW VIEW
  ON `lounges\_prod`.*
  TO 'lounges_read'@'10.0.0.%'
-- undo: REVOKE SELECT, SHOW VIEW
  ON `lounges\_prod`.*
  FROM 'lounges_read'@'10.0.0.%'

-- verify: read back and compare

-- undo: 

-- prove: sign in as both accounts and try what they may and may not do

-- undo: 

