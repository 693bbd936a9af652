-- statement: set the default role of gate@10.%
SET DEFAULT ROLE NONE TO 'gate'@'10.%'
-- undo: SET DEFAULT ROLE 'crew'@'%' TO 'gate'@'10.%'

-- statement: drop crew@%
DROP ROLE 'crew'@'%'
-- undo: 

-- verify: read back that it is gone

-- undo: 

