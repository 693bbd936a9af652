-- statement: revoke CONNECT on cargo from mate
EXEC [cargo].sys.sp_executesql N'REVOKE CONNECT FROM [mate]'
-- undo: EXEC [cargo].sys.sp_executesql N'GRANT CONNECT TO [mate]'

-- statement: revoke SELECT on table hold.crates from mate
EXEC [cargo].sys.sp_executesql N'REVOKE SELECT ON OBJECT::[hold].[crates] FROM [mate] CASCADE'
-- undo: EXEC [cargo].sys.sp_executesql N'GRANT SELECT ON OBJECT::[hold].[crates] TO [mate] WITH GRANT OPTION'

-- statement: revoke DELETE on table hold.crates from mate
EXEC [cargo].sys.sp_executesql N'REVOKE DELETE ON OBJECT::[hold].[crates] FROM [mate]'
-- undo: EXEC [cargo].sys.sp_executesql N'DENY DELETE ON OBJECT::[hold].[crates] TO [mate]'

-- verify: read back and compare

-- undo: 

