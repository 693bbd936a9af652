-- statement: rename user cargo/mate to bosun on customs
EXEC [cargo].sys.sp_executesql N'ALTER USER [mate] WITH NAME = [bosun]'
-- undo: EXEC [cargo].sys.sp_executesql N'ALTER USER [bosun] WITH NAME = [mate]'

-- verify: read back and compare

-- undo: 

