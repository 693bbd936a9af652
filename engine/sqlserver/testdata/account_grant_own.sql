-- statement: put mate into the role cargo/db_owner
EXEC [cargo].sys.sp_executesql N'ALTER ROLE [db_owner] ADD MEMBER [mate]'
-- undo: EXEC [cargo].sys.sp_executesql N'ALTER ROLE [db_owner] DROP MEMBER [mate]'

-- verify: read back and compare

-- undo: 

