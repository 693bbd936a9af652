-- create_principal: create login bosun
CREATE LOGIN [bosun] WITH PASSWORD = '••••••' HASHED, SID = 0x00112233445566778899aabbccddeeff, DEFAULT_DATABASE = [cargo], CHECK_POLICY = OFF, CHECK_EXPIRATION = OFF
-- undo: DROP LOGIN [bosun]

-- statement: disable bosun
ALTER LOGIN [bosun] DISABLE
-- undo: ALTER LOGIN [bosun] ENABLE

-- verify: read back and compare

-- undo: 

