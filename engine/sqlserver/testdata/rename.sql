-- clear_sessions: end the sessions of cargo, and look until nobody is left
IF EXISTS (SELECT 1 FROM sys.dm_exec_connections WHERE session_id = … AND connection_id = …) KILL …
-- undo: 

-- rename_database: take it for Genarch's session alone, and rename it to freight
USE [cargo];
ALTER DATABASE [cargo] SET SINGLE_USER WITH ROLLBACK IMMEDIATE;
ALTER DATABASE [cargo] MODIFY NAME = [freight];
ALTER DATABASE [freight] SET MULTI_USER;
USE [master]
-- undo: ALTER DATABASE [freight] MODIFY NAME = [cargo]

-- verify: read back and compare

-- undo: 

