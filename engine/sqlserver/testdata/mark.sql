-- write_mark: write the mark
EXEC master.sys.sp_addextendedproperty @name = N'genarch.identity', @value = N'222d11d3-fc39-48bf-8c14-a8d0f59f9d52'
-- undo: EXEC master.sys.sp_dropextendedproperty @name = N'genarch.identity'

-- verify: read the mark back

-- undo: 

