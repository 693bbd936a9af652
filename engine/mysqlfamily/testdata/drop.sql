-- close_gate: close the gate: revoke, for the time of the change, the privileges that let anybody into cargo_prod
ALTER DEFINER='ma''te'@'10.%' EVENT `cargo_prod`.`night``ly` DISABLE;
REVOKE UPDATE (`axles`)
  ON `cargo_prod`.`trailers`
  FROM 'gate'@'10.%';
GRANT DELETE HISTORY
  ON `cargo\_prod`.*
  TO 'cargo_app'@'10.0.0.%';
GRANT DELETE HISTORY
  ON `cargo\_prod`.*
  TO 'gate'@'10.%';
GRANT DELETE HISTORY
  ON `cargo\_prod`.*
  TO `crew`;
REVOKE INSERT, UPDATE, GRANT OPTION
  ON `cargo\_prod`.*
  FROM `crew`
-- undo: GRANT INSERT, UPDATE
  ON `cargo\_prod`.*
  TO `crew`
  WITH GRANT OPTION;
REVOKE DELETE HISTORY
  ON `cargo\_prod`.*
  FROM `crew`;
REVOKE DELETE HISTORY
  ON `cargo\_prod`.*
  FROM 'gate'@'10.%';
REVOKE DELETE HISTORY
  ON `cargo\_prod`.*
  FROM 'cargo_app'@'10.0.0.%';
GRANT UPDATE (`axles`)
  ON `cargo_prod`.`trailers`
  TO 'gate'@'10.%';
ALTER DEFINER='ma''te'@'10.%' EVENT `cargo_prod`.`night``ly` ENABLE

-- clear_sessions: let work finish for 30s, end the sessions of cargo_prod, and look until nobody is left
KILL SOFT CONNECTION …
-- undo: 

-- drop_database: check once more, and drop database cargo_prod
DROP DATABASE `cargo_prod`
-- undo: 

-- restore_grants: put the grants on the name back, as the engine leaves them
GRANT INSERT, UPDATE
  ON `cargo\_prod`.*
  TO `crew`
  WITH GRANT OPTION;
REVOKE DELETE HISTORY
  ON `cargo\_prod`.*
  FROM 'cargo_app'@'10.0.0.%';
REVOKE DELETE HISTORY
  ON `cargo\_prod`.*
  FROM 'gate'@'10.%';
REVOKE DELETE HISTORY
  ON `cargo\_prod`.*
  FROM `crew`
-- undo: 

-- verify: read back that it is gone

-- undo: 

