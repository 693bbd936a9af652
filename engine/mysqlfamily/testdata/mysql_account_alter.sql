-- statement: set the default role of gate@10.%
SET DEFAULT ROLE NONE TO 'gate'@'10.%'
-- undo: SET DEFAULT ROLE 'crew'@'%' TO 'gate'@'10.%'

-- statement: alter gate@10.%
ALTER USER 'gate'@'10.%'
  WITH MAX_USER_CONNECTIONS 5
  ACCOUNT LOCK
  PASSWORD EXPIRE
-- undo: ALTER USER 'gate'@'10.%'
  WITH MAX_USER_CONNECTIONS 0
  ACCOUNT UNLOCK
  PASSWORD EXPIRE DEFAULT

-- verify: read back and compare

-- undo: 

