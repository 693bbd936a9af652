-- create_principal: create login bosun
CREATE LOGIN [bosun] WITH PASSWORD = '••••••' HASHED, CHECK_POLICY = OFF, CHECK_EXPIRATION = OFF
-- undo: DROP LOGIN [bosun]

-- verify: read back and compare

-- undo: 

-- prove: sign in as bosun

-- undo: 

