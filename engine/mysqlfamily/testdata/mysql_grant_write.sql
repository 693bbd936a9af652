-- statement: grant gate@10.% bundle write on cargo_prod
GRANT SELECT, INSERT, UPDATE, DELETE, EXECUTE, CREATE TEMPORARY TABLES, LOCK TABLES, SHOW VIEW
  ON `cargo\_prod`.*
  TO 'gate'@'10.%'
-- undo: REVOKE SELECT, INSERT, UPDATE, DELETE, EXECUTE, CREATE TEMPORARY TABLES, LOCK TABLES, SHOW VIEW
  ON `cargo\_prod`.*
  FROM 'gate'@'10.%'

-- verify: read back what it may do now

-- undo: 

