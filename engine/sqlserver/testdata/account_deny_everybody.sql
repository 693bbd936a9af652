-- statement: deny public EXECUTE on cargo
EXEC [cargo].sys.sp_executesql N'DENY EXECUTE TO [public]'
-- undo: EXEC [cargo].sys.sp_executesql N'REVOKE EXECUTE FROM [public]'

-- verify: read back and compare

-- undo: 

