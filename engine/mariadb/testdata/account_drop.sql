-- statement: keep it out
ALTER USER 'gate'@'10.%' ACCOUNT LOCK
-- undo: ALTER USER 'gate'@'10.%' ACCOUNT UNLOCK

-- statement: make sure that it is not connected

-- undo: 

-- statement: drop gate@10.%
DROP USER 'gate'@'10.%'
-- undo: 

-- verify: read back that it is gone

-- undo: 

