-- statement: take mate out of the role cargo/stewards
EXEC [cargo].sys.sp_executesql N'ALTER ROLE [stewards] DROP MEMBER [mate]'
-- undo: EXEC [cargo].sys.sp_executesql N'ALTER ROLE [stewards] ADD MEMBER [mate]'

-- statement: drop role cargo/stewards
EXEC [cargo].sys.sp_executesql N'DROP ROLE [stewards]'
-- undo: 

-- verify: read back that it is gone

-- undo: 

