-- note_holding: note what it was, and how long it is kept
EXEC master.sys.sp_updateextendedproperty @name = N'genarch.held.genarch_held_5_cargo', @value = N'{"set_aside_by":"Genarch","name":"cargo","since":"2026-11-28","kept_until":"2026-11-28","open":true,"hold":"remark","kept":{"access":"multi_user"}}'
-- undo: EXEC master.sys.sp_updateextendedproperty @name = N'genarch.held.genarch_held_5_cargo', @value = N'{"set_aside_by":"Genarch","name":"cargo","since":"2026-11-28","kept_until":"2026-11-28","open":true,"kept":{"access":"multi_user"}}'

-- verify: read back and compare

-- undo: 

