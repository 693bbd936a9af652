-- statement: set the default role of gate@10.%
SET DEFAULT ROLE NONE TO 'gate'@'10.%'
-- undo: SET DEFAULT ROLE 'crew'@'%' TO 'gate'@'10.%'

-- statement: revoke role crew from gate@10.%
REVOKE 'crew'@'%' FROM 'gate'@'10.%'
-- undo: GRANT 'crew'@'%' TO 'gate'@'10.%'

-- verify: read back

-- undo: 

