-- statement: set the login of cargo/lost
EXEC [cargo].sys.sp_executesql N'ALTER USER [lost] WITH LOGIN = [deck]'
-- undo: 

-- verify: read back and compare

-- undo: 

