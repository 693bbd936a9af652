-- close_gate: close the gate: revoke, for the time of the change, the privileges that let anybody into cargo_prod
REVOKE UPDATE (`axles`)
  ON `cargo_prod`.`trailers`
  FROM 'gate'@'10.%';
GRANT LOCK TABLES
  ON `cargo\_prod`.*
  TO 'cargo_app'@'10.0.0.%'
-- undo: REVOKE LOCK TABLES
  ON `cargo\_prod`.*
  FROM 'cargo_app'@'10.0.0.%';
GRANT UPDATE (`axles`)
  ON `cargo_prod`.`trailers`
  TO 'gate'@'10.%'

-- clear_sessions: end the sessions of cargo_prod, and look until nobody is left
KILL CONNECTION …
-- undo: 

-- alter_database: make cargo_prod writable
ALTER DATABASE `cargo_prod` READ ONLY = 0
-- undo: ALTER DATABASE `cargo_prod` READ ONLY = 1

-- drop_database: check once more, and drop database cargo_prod
DROP DATABASE `cargo_prod`
-- undo: 

-- restore_grants: put the grants on the name back, as the engine leaves them
REVOKE LOCK TABLES
  ON `cargo\_prod`.*
  FROM 'cargo_app'@'10.0.0.%'
-- undo: 

-- verify: read back that it is gone

-- undo: 

