-- clear_sessions: end the sessions of cargo, and look until nobody is left
IF EXISTS (SELECT 1 FROM sys.dm_exec_connections WHERE session_id = … AND connection_id = …) KILL …
-- undo: 

-- alter_alone: collation: SQL_Latin1_General_CP1_CI_AS
USE [cargo];
ALTER DATABASE [cargo] SET SINGLE_USER WITH ROLLBACK IMMEDIATE;
ALTER DATABASE [cargo] COLLATE SQL_Latin1_General_CP1_CI_AS;
ALTER DATABASE [cargo] SET MULTI_USER;
USE [master]
-- undo: ALTER DATABASE [cargo] COLLATE Finnish_Swedish_CI_AS

-- alter_alone: read only: yes
USE [cargo];
ALTER DATABASE [cargo] SET SINGLE_USER WITH ROLLBACK IMMEDIATE;
ALTER DATABASE [cargo] SET READ_ONLY;
ALTER DATABASE [cargo] SET MULTI_USER;
USE [master]
-- undo: ALTER DATABASE [cargo] SET READ_WRITE

-- alter_alone: who gets in: restricted_user
USE [cargo];
ALTER DATABASE [cargo] SET SINGLE_USER WITH ROLLBACK IMMEDIATE;
ALTER DATABASE [cargo] SET RESTRICTED_USER;
ALTER DATABASE [cargo] SET RESTRICTED_USER;
USE [master]
-- undo: ALTER DATABASE [cargo] SET MULTI_USER

-- verify: read back and compare

-- undo: 

