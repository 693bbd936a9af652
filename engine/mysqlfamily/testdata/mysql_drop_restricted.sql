-- close_gate: close the gate: revoke, for the time of the change, the privileges that let anybody into cargo
REVOKE SELECT
  ON `cargo`.*
  FROM 'report'@'%';
REVOKE SELECT
  ON `cargo`.*
  FROM 'lookers'@'%'
-- undo: GRANT SELECT
  ON `cargo`.*
  TO 'lookers'@'%';
GRANT SELECT
  ON `cargo`.*
  TO 'report'@'%'

-- clear_sessions: end the sessions of cargo, and look until nobody is left
KILL CONNECTION …
-- undo: 

-- drop_database: check once more, and drop database cargo
DROP DATABASE `cargo`
-- undo: 

-- restore_grants: put the grants on the name back, as the engine leaves them
GRANT SELECT
  ON `cargo`.*
  TO 'report'@'%';
GRANT SELECT
  ON `cargo`.*
  TO 'lookers'@'%'
-- undo: 

-- verify: read back that it is gone

-- undo: 

