-- statement: grant mate DELETE on table hold.crates
EXEC [cargo].sys.sp_executesql N'GRANT DELETE ON OBJECT::[hold].[crates] TO [mate]'
-- undo: EXEC [cargo].sys.sp_executesql N'DENY DELETE ON OBJECT::[hold].[crates] TO [mate]'

-- verify: read back and compare

-- undo: 

