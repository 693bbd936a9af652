-- create_role: create role lounges_owner
CREATE ROLE "lounges_owner" NOLOGIN
-- undo: DROP ROLE "lounges_owner"

-- create_role: create account lounges_app
CREATE ROLE "lounges_app" LOGIN PASSWORD '••••••'
-- undo: DROP ROLE "lounges_app"

-- create_role: create account lounges_read
CREATE ROLE "lounges_read" LOGIN PASSWORD '••••••'
-- undo: DROP ROLE "lounges_read"

-- create_database: create database lounges_prod
CREATE DATABASE "lounges_prod" WITH
  OWNER = "lounges_owner"
  TEMPLATE = "template1"
  ENCODING = 'UTF8'
  LOCALE_PROVIDER = libc
  LC_COLLATE = 'C.UTF-8'
  LC_CTYPE = 'C.UTF-8'
-- undo: DROP DATABASE "lounges_prod"

-- access: make it private to the team
-- connected to lounges_prod
BEGIN;
REVOKE CONNECT, TEMPORARY ON DATABASE "lounges_prod" FROM PUBLIC;
GRANT CONNECT, TEMPORARY ON DATABASE "lounges_prod" TO "lounges_app";
GRANT USAGE ON SCHEMA "public" TO "lounges_app";
GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA "public" TO "lounges_app";
GRANT SELECT, USAGE ON ALL SEQUENCES IN SCHEMA "public" TO "lounges_app";
ALTER DEFAULT PRIVILEGES FOR ROLE "lounges_owner" GRANT USAGE ON SCHEMAS TO "lounges_app";
ALTER DEFAULT PRIVILEGES FOR ROLE "lounges_owner" GRANT SELECT, INSERT, UPDATE, DELETE ON TABLES TO "lounges_app";
ALTER DEFAULT PRIVILEGES FOR ROLE "lounges_owner" GRANT SELECT, USAGE ON SEQUENCES TO "lounges_app";
GRANT CONNECT ON DATABASE "lounges_prod" TO "lounges_read";
GRANT USAGE ON SCHEMA "public" TO "lounges_read";
GRANT SELECT ON ALL TABLES IN SCHEMA "public" TO "lounges_read";
GRANT SELECT ON ALL SEQUENCES IN SCHEMA "public" TO "lounges_read";
ALTER DEFAULT PRIVILEGES FOR ROLE "lounges_owner" GRANT USAGE ON SCHEMAS TO "lounges_read";
ALTER DEFAULT PRIVILEGES FOR ROLE "lounges_owner" GRANT SELECT ON TABLES TO "lounges_read";
ALTER DEFAULT PRIVILEGES FOR ROLE "lounges_owner" GRANT SELECT ON SEQUENCES TO "lounges_read";
COMMIT
-- undo: -- connected to lounges_prod
BEGIN;
REVOKE CONNECT ON DATABASE "lounges_prod" FROM "lounges_read";
REVOKE USAGE ON SCHEMA "public" FROM "lounges_read";
REVOKE SELECT ON ALL TABLES IN SCHEMA "public" FROM "lounges_read";
REVOKE SELECT ON ALL SEQUENCES IN SCHEMA "public" FROM "lounges_read";
ALTER DEFAULT PRIVILEGES FOR ROLE "lounges_owner" REVOKE USAGE ON SCHEMAS FROM "lounges_read";
ALTER DEFAULT PRIVILEGES FOR ROLE "lounges_owner" REVOKE SELECT ON TABLES FROM "lounges_read";
ALTER DEFAULT PRIVILEGES FOR ROLE "lounges_owner" REVOKE SELECT ON SEQUENCES FROM "lounges_read";
REVOKE CONNECT, TEMPORARY ON DATABASE "lounges_prod" FROM "lounges_app";
REVOKE USAGE ON SCHEMA "public" FROM "lounges_app";
REVOKE SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA "public" FROM "lounges_app";
REVOKE SELECT, USAGE ON ALL SEQUENCES IN SCHEMA "public" FROM "lounges_app";
ALTER DEFAULT PRIVILEGES FOR ROLE "lounges_owner" REVOKE USAGE ON SCHEMAS FROM "lounges_app";
ALTER DEFAULT PRIVILEGES FOR ROLE "lounges_owner" REVOKE SELECT, INSERT, UPDATE, DELETE ON TABLES FROM "lounges_app";
ALTER DEFAULT PRIVILEGES FOR ROLE "lounges_owner" REVOKE SELECT, USAGE ON SEQUENCES FROM "lounges_app";
GRANT CONNECT, TEMPORARY ON DATABASE "lounges_prod" TO PUBLIC;
COMMIT

-- verify: read back and compare

-- undo: 

-- prove: sign in as both accounts and try what they may and may not do

-- undo: 

