-- create_principal: create server role bosun
CREATE SERVER ROLE [bosun]
-- undo: DROP SERVER ROLE [bosun]

-- verify: read back and compare

-- undo: 

