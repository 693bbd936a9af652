-- statement: revoke SELECT, GRANT OPTION on `gone\_prod`.*
REVOKE SELECT, GRANT OPTION
  ON `gone\_prod`.*
  FROM 'gate'@'10.%'
-- undo: GRANT SELECT
  ON `gone\_prod`.*
  TO 'gate'@'10.%'
  WITH GRANT OPTION

-- verify: read back what it may do now

-- undo: 

