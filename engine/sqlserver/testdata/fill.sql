-- fill_account: make the login as which it runs
CREATE LOGIN [genarch_fill_abcdefghijkl] WITH PASSWORD = 0x02000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000 HASHED, CHECK_POLICY = OFF;
EXEC [cargo].sys.sp_executesql N'CREATE USER [genarch_fill_abcdefghijkl] FOR LOGIN [genarch_fill_abcdefghijkl] WITH DEFAULT_SCHEMA = dbo';
EXEC [cargo].sys.sp_executesql N'GRANT SELECT, INSERT, UPDATE, DELETE, EXECUTE, REFERENCES, VIEW DEFINITION, CREATE TABLE, CREATE VIEW, CREATE PROCEDURE, CREATE FUNCTION, CREATE TYPE, CREATE SYNONYM, CREATE DEFAULT, CREATE RULE, CREATE XML SCHEMA COLLECTION, CREATE SCHEMA, ALTER ANY SCHEMA, ALTER ANY DATASPACE TO [genarch_fill_abcdefghijkl]'
-- undo: EXEC [cargo].sys.sp_executesql N'DROP USER IF EXISTS [genarch_fill_abcdefghijkl]';
DROP LOGIN [genarch_fill_abcdefghijkl]

-- fill: run 2 batches of seed.sql

-- undo: 

-- fill_account_gone: drop the login again
EXEC [cargo].sys.sp_executesql N'DROP USER IF EXISTS [genarch_fill_abcdefghijkl]';
DROP LOGIN [genarch_fill_abcdefghijkl]
-- undo: 

-- verify: read back and compare

-- undo: 

