-- statement: revoke SELECT on table hold.crates from mate
EXEC [cargo].sys.sp_executesql N'REVOKE SELECT ON OBJECT::[hold].[crates] FROM [mate] CASCADE'
-- undo: EXEC [cargo].sys.sp_executesql N'GRANT SELECT ON OBJECT::[hold].[crates] TO [mate] WITH GRANT OPTION'

-- verify: read back and compare

-- undo: 

