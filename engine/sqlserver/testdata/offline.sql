-- clear_sessions: end the sessions of cargo, and look until nobody is left
IF EXISTS (SELECT 1 FROM sys.dm_exec_connections WHERE session_id = … AND connection_id = …) KILL …
-- undo: 

-- alter_database: take it offline, which ends whoever is in it
ALTER DATABASE [cargo] SET OFFLINE WITH ROLLBACK IMMEDIATE
-- undo: ALTER DATABASE [cargo] SET ONLINE

-- verify: read back and compare

-- undo: 

