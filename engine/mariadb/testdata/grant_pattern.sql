-- statement: take the right to pass on
REVOKE GRANT OPTION
  ON `gone\_prod`.*
  FROM 'gate'@'10.%'
-- undo: GRANT USAGE
  ON `gone\_prod`.*
  TO 'gate'@'10.%'
  WITH GRANT OPTION

-- statement: take SELECT on `gone\_prod`.*
REVOKE SELECT
  ON `gone\_prod`.*
  FROM 'gate'@'10.%'
-- undo: GRANT SELECT
  ON `gone\_prod`.*
  TO 'gate'@'10.%'

-- verify: read back what it may do now

-- undo: 

