-- statement: disable mate
ALTER LOGIN [mate] DISABLE
-- undo: ALTER LOGIN [mate] ENABLE

-- clear_sessions: end the sessions of mate, and look until nobody is left
IF EXISTS (SELECT 1 FROM sys.dm_exec_connections WHERE session_id = … AND connection_id = …) KILL …
-- undo: 

-- statement: drop user cargo/mate
EXEC [cargo].sys.sp_executesql N'DROP USER [mate]'
-- undo: 

-- statement: drop login mate
DROP LOGIN [mate]
-- undo: 

-- verify: read back that it is gone

-- undo: 

