-- bring_online: bring it online
ALTER DATABASE [genarch_held_5_cargo] SET ONLINE
-- undo: ALTER DATABASE [genarch_held_5_cargo] SET OFFLINE WITH ROLLBACK IMMEDIATE

-- drop_database: take it for Genarch's session alone, and drop it
USE [genarch_held_5_cargo];
ALTER DATABASE [genarch_held_5_cargo] SET SINGLE_USER WITH ROLLBACK IMMEDIATE;
USE [master];
DROP DATABASE [genarch_held_5_cargo]
-- undo: 

-- note_holding: remove the note
EXEC master.sys.sp_dropextendedproperty @name = N'genarch.held.genarch_held_5_cargo'
-- undo: EXEC master.sys.sp_addextendedproperty @name = N'genarch.held.genarch_held_5_cargo', @value = N'{"set_aside_by":"Genarch","name":"cargo","since":"2026-11-28","kept_until":"2026-11-28","open":true,"kept":{"access":"multi_user"}}'

-- verify: read back that it is gone

-- undo: 

