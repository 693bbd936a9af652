-- clear_sessions: end the sessions of cargo, and look until nobody is left
IF EXISTS (SELECT 1 FROM sys.dm_exec_connections WHERE session_id = … AND connection_id = …) KILL …
-- undo: 

-- drop_database: take it for Genarch's session alone, and drop it
USE [cargo];
ALTER DATABASE [cargo] SET SINGLE_USER WITH ROLLBACK IMMEDIATE;
USE [master];
DROP DATABASE [cargo]
-- undo: 

-- verify: read back that it is gone

-- undo: 

