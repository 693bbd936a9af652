-- close_gate: close the gate: revoke, for the time of the change, the privileges that let anybody into cargo_prod
ALTER DEFINER='mate'@'10.%' EVENT `cargo_prod`.`nightly` DISABLE;
REVOKE UPDATE (`axles`)
  ON `cargo_prod`.`trailers`
  FROM 'gate'@'10.%';
REVOKE EXECUTE, GRANT OPTION
  ON PROCEDURE `cargo_prod`.`weigh`
  FROM 'gate'@'10.%';
REVOKE SELECT, GRANT OPTION
  ON `cargo_prod`.`trailers`
  FROM `crew`;
GRANT DELETE HISTORY
  ON `cargo\_prod`.*
  TO 'cargo_app'@'10.0.0.%';
GRANT DELETE HISTORY
  ON `cargo\_prod`.*
  TO `crew`
-- undo: REVOKE DELETE HISTORY
  ON `cargo\_prod`.*
  FROM `crew`;
REVOKE DELETE HISTORY
  ON `cargo\_prod`.*
  FROM 'cargo_app'@'10.0.0.%';
GRANT SELECT
  ON `cargo_prod`.`trailers`
  TO `crew`
  WITH GRANT OPTION;
GRANT EXECUTE
  ON PROCEDURE `cargo_prod`.`weigh`
  TO 'gate'@'10.%'
  WITH GRANT OPTION;
GRANT UPDATE (`axles`)
  ON `cargo_prod`.`trailers`
  TO 'gate'@'10.%';
ALTER DEFINER='mate'@'10.%' EVENT `cargo_prod`.`nightly` ENABLE

-- clear_sessions: end the sessions of cargo_prod, and look until nobody is left
KILL SOFT CONNECTION …
-- undo: 

-- save_definitions: save definitions and grants in genarch_held_1_cargo_prod.genarch_holding
CREATE DATABASE `genarch_held_1_cargo_prod`
  CHARACTER SET utf8mb4
  COLLATE utf8mb4_bin
  COMMENT 'What Genarch set aside; to bring it back: genarch holding list.';
CREATE TABLE `genarch_held_1_cargo_prod`.`genarch_holding` (
  position INT NOT NULL PRIMARY KEY,
  kind VARCHAR(20) NOT NULL,
  name VARCHAR(64) NOT NULL,
  mode TEXT NOT NULL,
  client VARCHAR(64) NOT NULL,
  connection VARCHAR(64) NOT NULL,
  collation VARCHAR(64) NOT NULL,
  body LONGBLOB NOT NULL
) ENGINE=InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin
-- undo: DROP DATABASE `genarch_held_1_cargo_prod`

-- move_aside: move its tables to genarch_held_1_cargo_prod, and drop what was saved
DROP TRIGGER `cargo_prod`.`weighed`;
RENAME TABLE `cargo_prod`.`axles` TO `genarch_held_1_cargo_prod`.`axles`,
  `cargo_prod`.`trailers` TO `genarch_held_1_cargo_prod`.`trailers`;
ALTER DEFINER='mate'@'10.%' EVENT `cargo_prod`.`nightly` RENAME TO `genarch_held_1_cargo_prod`.`nightly`;
DROP VIEW `cargo_prod`.`heavy`;
SET STATEMENT sql_mode = 'ORACLE' FOR EXECUTE IMMEDIATE 'DROP PACKAGE `cargo_prod`.`desk`';
DROP FUNCTION `cargo_prod`.`weigh`
-- undo: RENAME TABLE `genarch_held_1_cargo_prod`.`axles` TO `cargo_prod`.`axles`,
  `genarch_held_1_cargo_prod`.`trailers` TO `cargo_prod`.`trailers`;
ALTER DEFINER='mate'@'10.%' EVENT `genarch_held_1_cargo_prod`.`nightly` RENAME TO `cargo_prod`.`nightly`

-- drop_shell: drop what is left of cargo_prod, which is empty
DROP DATABASE `cargo_prod`
-- undo: CREATE DATABASE `cargo_prod`
  CHARACTER SET utf8mb4
  COLLATE utf8mb4_bin
  COMMENT 'remark'

-- restore_grants: remove what is left over of the gate
REVOKE DELETE HISTORY
  ON `cargo\_prod`.*
  FROM 'cargo_app'@'10.0.0.%';
REVOKE DELETE HISTORY
  ON `cargo\_prod`.*
  FROM `crew`
-- undo: 

-- verify: read back and compare

-- undo: 

