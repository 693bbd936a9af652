-- create_database: create database lounges
CREATE DATABASE [lounges]
-- undo: DROP DATABASE [lounges]

-- create_principal: create role lounges/crews_owner
EXEC [lounges].sys.sp_executesql N'CREATE ROLE [crews_owner]'
-- undo: EXEC [lounges].sys.sp_executesql N'DROP ROLE [crews_owner]'

-- statement: put crews_owner into the role lounges/db_owner
EXEC [lounges].sys.sp_executesql N'ALTER ROLE [db_owner] ADD MEMBER [crews_owner]'
-- undo: EXEC [lounges].sys.sp_executesql N'ALTER ROLE [db_owner] DROP MEMBER [crews_owner]'

-- create_principal: create login crews_app
CREATE LOGIN [crews_app] WITH PASSWORD = '••••••' HASHED, CHECK_POLICY = OFF, CHECK_EXPIRATION = OFF
-- undo: DROP LOGIN [crews_app]

-- create_principal: create user lounges/crews_app
EXEC [lounges].sys.sp_executesql N'CREATE USER [crews_app] FOR LOGIN [crews_app]'
-- undo: EXEC [lounges].sys.sp_executesql N'DROP USER [crews_app]'

-- statement: grant crews_app SELECT, INSERT, UPDATE, DELETE, EXECUTE on lounges
EXEC [lounges].sys.sp_executesql N'GRANT SELECT, INSERT, UPDATE, DELETE, EXECUTE TO [crews_app]'
-- undo: EXEC [lounges].sys.sp_executesql N'REVOKE SELECT, INSERT, UPDATE, DELETE, EXECUTE FROM [crews_app]'

-- create_principal: create login crews_read
CREATE LOGIN [crews_read] WITH PASSWORD = '••••••' HASHED, CHECK_POLICY = OFF, CHECK_EXPIRATION = OFF
-- undo: DROP LOGIN [crews_read]

-- create_principal: create user lounges/crews_read
EXEC [lounges].sys.sp_executesql N'CREATE USER [crews_read] FOR LOGIN [crews_read]'
-- undo: EXEC [lounges].sys.sp_executesql N'DROP USER [crews_read]'

-- statement: grant crews_read SELECT on lounges
EXEC [lounges].sys.sp_executesql N'GRANT SELECT TO [crews_read]'
-- undo: EXEC [lounges].sys.sp_executesql N'REVOKE SELECT FROM [crews_read]'

-- verify: read back and compare

-- undo: 

-- prove: sign in as both accounts and try what they may and may not do

-- undo: 

