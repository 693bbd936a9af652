-- statement: drop user cargo/mate
EXEC [cargo].sys.sp_executesql N'DROP USER [mate]'
-- undo: 

-- verify: read back that it is gone

-- undo: 

