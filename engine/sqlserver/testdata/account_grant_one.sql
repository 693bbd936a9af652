-- statement: grant mate UPDATE on column hold.crates.remark
EXEC [cargo].sys.sp_executesql N'GRANT UPDATE ([remark]) ON OBJECT::[hold].[crates] TO [mate] WITH GRANT OPTION'
-- undo: EXEC [cargo].sys.sp_executesql N'REVOKE UPDATE ([remark]) ON OBJECT::[hold].[crates] FROM [mate] CASCADE'

-- verify: read back and compare

-- undo: 

