-- statement: put lost into the role cargo/stewards
EXEC [cargo].sys.sp_executesql N'ALTER ROLE [stewards] ADD MEMBER [lost]'
-- undo: EXEC [cargo].sys.sp_executesql N'ALTER ROLE [stewards] DROP MEMBER [lost]'

-- verify: read back and compare

-- undo: 

