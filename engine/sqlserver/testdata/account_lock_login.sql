-- statement: disable mate
ALTER LOGIN [mate] DISABLE
-- undo: ALTER LOGIN [mate] ENABLE

-- verify: read back and compare

-- undo: 

