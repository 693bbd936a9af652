-- statement: keep it out
ALTER USER 'gate'@'10.%' ACCOUNT LOCK
-- undo: ALTER USER 'gate'@'10.%' ACCOUNT UNLOCK

-- clear_sessions: end the sessions of gate@10.%, and look until nobody is left
KILL CONNECTION …
-- undo: 

-- statement: drop gate@10.%
DROP USER 'gate'@'10.%'
-- undo: 

-- verify: read back that it is gone

-- undo: 

