-- note_holding: note what it was, and how long it is kept
EXEC master.sys.sp_addextendedproperty @name = N'genarch.held.genarch_held_5_cargo', @value = N'{"set_aside_by":"Genarch","name":"cargo","since":"2026-11-28","kept_until":"2026-12-28","open":true,"tables":2,"kept":{"access":"multi_user"}}'
-- undo: EXEC master.sys.sp_dropextendedproperty @name = N'genarch.held.genarch_held_5_cargo'

-- clear_sessions: end the sessions of cargo, and look until nobody is left
IF EXISTS (SELECT 1 FROM sys.dm_exec_connections WHERE session_id = … AND connection_id = …) KILL …
-- undo: 

-- set_aside: take it for Genarch's session alone, rename it to genarch_held_5_cargo, and take it offline
USE [cargo];
ALTER DATABASE [cargo] SET SINGLE_USER WITH ROLLBACK IMMEDIATE;
ALTER DATABASE [cargo] MODIFY NAME = [genarch_held_5_cargo];
ALTER DATABASE [genarch_held_5_cargo] SET OFFLINE WITH ROLLBACK IMMEDIATE
-- undo: ALTER DATABASE [genarch_held_5_cargo] SET ONLINE;
ALTER DATABASE [genarch_held_5_cargo] MODIFY NAME = [cargo];
ALTER DATABASE [cargo] SET MULTI_USER

-- verify: read back and compare

-- undo: 

