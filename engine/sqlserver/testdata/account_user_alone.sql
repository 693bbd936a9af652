-- create_principal: create user cargo/bosun
EXEC [cargo].sys.sp_executesql N'CREATE USER [bosun] WITHOUT LOGIN'
-- undo: EXEC [cargo].sys.sp_executesql N'DROP USER [bosun]'

-- verify: read back and compare

-- undo: 

