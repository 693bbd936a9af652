-- statement: set the default database of mate
ALTER LOGIN [mate] WITH DEFAULT_DATABASE = [cargo]
-- undo: ALTER LOGIN [mate] WITH DEFAULT_DATABASE = [master]

-- verify: read back and compare

-- undo: 

