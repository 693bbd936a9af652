-- statement: set the default role of gate@10.%
SET DEFAULT ROLE NONE FOR 'gate'@'10.%'
-- undo: SET DEFAULT ROLE `crew` FOR 'gate'@'10.%'

-- statement: drop crew
DROP ROLE `crew`
-- undo: 

-- verify: read back that it is gone

-- undo: 

