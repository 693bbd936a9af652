-- statement: set the default schema of cargo/mate
EXEC [cargo].sys.sp_executesql N'ALTER USER [mate] WITH DEFAULT_SCHEMA = [hold]'
-- undo: EXEC [cargo].sys.sp_executesql N'ALTER USER [mate] WITH DEFAULT_SCHEMA = [dbo]'

-- verify: read back and compare

-- undo: 

