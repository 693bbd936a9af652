-- statement: revoke SELECT, INSERT on `cargo_prod`.*
REVOKE SELECT, INSERT
  ON `cargo_prod`.*
  FROM 'cargo_app'@'10.0.0.%'
-- undo: GRANT SELECT, INSERT
  ON `cargo_prod`.*
  TO 'cargo_app'@'10.0.0.%'

-- verify: read back what it may do now

-- undo: 

