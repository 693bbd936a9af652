-- create_database: create database cargo_prod
CREATE DATABASE `cargo_prod`
  CHARACTER SET utf8mb4
  COLLATE utf8mb4_bin
  COMMENT 'remark'
-- undo: DROP DATABASE `cargo_prod`

-- move_back: move its tables back, and make again what was saved: 4 views, routines and triggers
RENAME TABLE `genarch_held_1_cargo_prod`.`axles` TO `cargo_prod`.`axles`,
  `genarch_held_1_cargo_prod`.`trailers` TO `cargo_prod`.`trailers`;
ALTER DEFINER='mate'@'10.%' EVENT `genarch_held_1_cargo_prod`.`nightly` RENAME TO `cargo_prod`.`nightly`
-- undo: DROP TRIGGER `cargo_prod`.`weighed`;
RENAME TABLE `cargo_prod`.`axles` TO `genarch_held_1_cargo_prod`.`axles`,
  `cargo_prod`.`trailers` TO `genarch_held_1_cargo_prod`.`trailers`;
ALTER DEFINER='mate'@'10.%' EVENT `cargo_prod`.`nightly` RENAME TO `genarch_held_1_cargo_prod`.`nightly`;
DROP VIEW `cargo_prod`.`heavy`;
SET STATEMENT sql_mode = 'ORACLE' FOR EXECUTE IMMEDIATE 'DROP PACKAGE `cargo_prod`.`desk`';
DROP FUNCTION `cargo_prod`.`weigh`

-- grant_again: grant again what was granted on it, and enable its events
GRANT UPDATE (`axles`)
  ON `cargo_prod`.`trailers`
  TO 'gate'@'10.%';
GRANT EXECUTE
  ON PROCEDURE `cargo_prod`.`weigh`
  TO 'gate'@'10.%'
  WITH GRANT OPTION;
GRANT SELECT
  ON `cargo_prod`.`trailers`
  TO `crew`
  WITH GRANT OPTION;
ALTER DEFINER='mate'@'10.%' EVENT `cargo_prod`.`nightly` ENABLE
-- undo: ALTER DEFINER='mate'@'10.%' EVENT `cargo_prod`.`nightly` DISABLE;
REVOKE SELECT, GRANT OPTION
  ON `cargo_prod`.`trailers`
  FROM `crew`;
REVOKE EXECUTE, GRANT OPTION
  ON PROCEDURE `cargo_prod`.`weigh`
  FROM 'gate'@'10.%';
REVOKE UPDATE (`axles`)
  ON `cargo_prod`.`trailers`
  FROM 'gate'@'10.%'

-- drop_holding: compare what came back with what was saved, and drop genarch_held_1_cargo_prod
DROP DATABASE `genarch_held_1_cargo_prod`
-- undo: 

-- verify: read back and compare

-- undo: 

