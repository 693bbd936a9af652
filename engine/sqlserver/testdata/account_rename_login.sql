-- statement: rename login mate to bosun on customs
ALTER LOGIN [mate] WITH NAME = [bosun]
-- undo: ALTER LOGIN [bosun] WITH NAME = [mate]

-- verify: read back and compare

-- undo: 

