-- statement: deny mate SELECT on table hold.crates
EXEC [cargo].sys.sp_executesql N'DENY SELECT ON OBJECT::[hold].[crates] TO [mate] CASCADE'
-- undo: EXEC [cargo].sys.sp_executesql N'GRANT SELECT ON OBJECT::[hold].[crates] TO [mate] WITH GRANT OPTION'

-- verify: read back and compare

-- undo: 

