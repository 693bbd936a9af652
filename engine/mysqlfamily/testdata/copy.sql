-- create_database: create database lounges_prod
CREATE DATABASE `lounges_prod`
  CHARACTER SET utf8mb4
  COLLATE utf8mb4_bin
  COMMENT 'remark'
-- undo: DROP DATABASE `lounges_prod`

-- copy_tables: make 3 tables and sequences, still empty
CREATE TABLE `lounges_prod`.`axles` LIKE `cargo_prod`.`axles`;
CREATE TABLE `lounges_prod`.`trailers` LIKE `cargo_prod`.`trailers`;
CREATE SEQUENCE `lounges_prod`.`gate` START WITH 1 MINVALUE 1 MAXVALUE 9 INCREMENT BY 2 CACHE 3 CYCLE
-- undo: SET STATEMENT foreign_key_checks = 0 FOR DROP TABLE IF EXISTS `lounges_prod`.`axles`, `lounges_prod`.`trailers`, `lounges_prod`.`gate`

-- copy_rows: copy rows, then set next numbers and foreign keys
LOCK TABLES `cargo_prod`.`axles` READ, `cargo_prod`.`trailers` READ, `lounges_prod`.`axles` WRITE, `lounges_prod`.`trailers` WRITE;
INSERT INTO `lounges_prod`.`axles` (`a`, `row_start`, `row_end`)
  SELECT `a`, `row_start`, `row_end` FROM `cargo_prod`.`axles` FOR SYSTEM_TIME ALL;
INSERT INTO `lounges_prod`.`trailers` (`a`, `axles`)
  SELECT `a`, `axles` FROM `cargo_prod`.`trailers`;
ALTER TABLE `lounges_prod`.`trailers` ADD CONSTRAINT `k`
  FOREIGN KEY (`axles`) REFERENCES `lounges_prod`.`axles` (`a`) ON DELETE CASCADE
-- undo: SELECT 'the rows go with their tables'

-- copy_definitions: make 5 routines, views, triggers and events as those of cargo_prod

-- undo: DROP TRIGGER `lounges_prod`.`weighed`;
DROP EVENT `lounges_prod`.`nightly`;
DROP VIEW `lounges_prod`.`heavy`;
SET STATEMENT sql_mode = 'ORACLE' FOR EXECUTE IMMEDIATE 'DROP PACKAGE `lounges_prod`.`desk`';
DROP FUNCTION `lounges_prod`.`weigh`

-- grant_again: grant on it what is granted on cargo_prod
GRANT UPDATE (`axles`)
  ON `lounges_prod`.`trailers`
  TO 'gate'@'10.%';
GRANT EXECUTE
  ON PROCEDURE `lounges_prod`.`weigh`
  TO 'gate'@'10.%'
  WITH GRANT OPTION;
GRANT SELECT
  ON `lounges_prod`.`trailers`
  TO `crew`
  WITH GRANT OPTION
-- undo: REVOKE SELECT, GRANT OPTION
  ON `lounges_prod`.`trailers`
  FROM `crew`;
REVOKE EXECUTE, GRANT OPTION
  ON PROCEDURE `lounges_prod`.`weigh`
  FROM 'gate'@'10.%';
REVOKE UPDATE (`axles`)
  ON `lounges_prod`.`trailers`
  FROM 'gate'@'10.%'

-- verify: read back and compare

-- undo: 

