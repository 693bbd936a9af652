-- create_principal: create role cargo/bosun
EXEC [cargo].sys.sp_executesql N'CREATE ROLE [bosun]'
-- undo: EXEC [cargo].sys.sp_executesql N'DROP ROLE [bosun]'

-- verify: read back and compare

-- undo: 

