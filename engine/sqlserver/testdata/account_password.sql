-- statement: set the password of mate
ALTER LOGIN [mate] WITH PASSWORD = '••••••' HASHED
-- undo: 

-- prove: sign in as mate

-- undo: 

