-- statement: put deck into the server role watch
ALTER SERVER ROLE [watch] ADD MEMBER [deck]
-- undo: ALTER SERVER ROLE [watch] DROP MEMBER [deck]

-- verify: read back and compare

-- undo: 

