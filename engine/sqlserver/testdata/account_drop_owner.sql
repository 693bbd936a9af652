-- set_owner: give quays to mate
ALTER AUTHORIZATION ON DATABASE::[quays] TO [mate]
-- undo: ALTER AUTHORIZATION ON DATABASE::[quays] TO [deck]

-- statement: disable deck
ALTER LOGIN [deck] DISABLE
-- undo: ALTER LOGIN [deck] ENABLE

-- clear_sessions: end the sessions of deck, and look until nobody is left
IF EXISTS (SELECT 1 FROM sys.dm_exec_connections WHERE session_id = … AND connection_id = …) KILL …
-- undo: 

-- statement: drop login deck
DROP LOGIN [deck]
-- undo: 

-- verify: read back that it is gone

-- undo: 

