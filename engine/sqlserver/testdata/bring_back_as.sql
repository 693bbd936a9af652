-- bring_back: bring it online, and rename it to freight
ALTER DATABASE [genarch_held_5_cargo] SET ONLINE;
ALTER DATABASE [genarch_held_5_cargo] MODIFY NAME = [freight]
-- undo: ALTER DATABASE [freight] MODIFY NAME = [genarch_held_5_cargo];
ALTER DATABASE [genarch_held_5_cargo] SET OFFLINE WITH ROLLBACK IMMEDIATE

-- note_holding: remove the note
EXEC master.sys.sp_dropextendedproperty @name = N'genarch.held.genarch_held_5_cargo'
-- undo: EXEC master.sys.sp_addextendedproperty @name = N'genarch.held.genarch_held_5_cargo', @value = N'{"set_aside_by":"Genarch","name":"cargo","since":"2026-11-28","kept_until":"2026-11-28","open":true,"kept":{"access":"multi_user"}}'

-- verify: read back and compare

-- undo: 

