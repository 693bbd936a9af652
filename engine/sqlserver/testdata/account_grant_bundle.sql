-- create_principal: create user cargo/deck
EXEC [cargo].sys.sp_executesql N'CREATE USER [deck] FOR LOGIN [deck]'
-- undo: EXEC [cargo].sys.sp_executesql N'DROP USER [deck]'

-- statement: grant deck SELECT, INSERT, UPDATE, DELETE, EXECUTE, REFERENCES, CREATE TABLE, CREATE VIEW, CREATE PROCEDURE, CREATE FUNCTION, CREATE TYPE, CREATE SYNONYM on cargo
EXEC [cargo].sys.sp_executesql N'GRANT SELECT, INSERT, UPDATE, DELETE, EXECUTE, REFERENCES, CREATE TABLE, CREATE VIEW, CREATE PROCEDURE, CREATE FUNCTION, CREATE TYPE, CREATE SYNONYM TO [deck]'
-- undo: EXEC [cargo].sys.sp_executesql N'REVOKE SELECT, INSERT, UPDATE, DELETE, EXECUTE, REFERENCES, CREATE TABLE, CREATE VIEW, CREATE PROCEDURE, CREATE FUNCTION, CREATE TYPE, CREATE SYNONYM FROM [deck]'

-- statement: grant deck ALTER on schema hold
EXEC [cargo].sys.sp_executesql N'GRANT ALTER ON SCHEMA::[hold] TO [deck]'
-- undo: EXEC [cargo].sys.sp_executesql N'REVOKE ALTER ON SCHEMA::[hold] FROM [deck]'

-- verify: read back and compare

-- undo: 

