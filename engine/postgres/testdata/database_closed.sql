-- create_database: create database lounges_prod
CREATE DATABASE "lounges_prod" WITH
  OWNER = "keeper"
  TEMPLATE = "template1"
  ENCODING = 'UTF8'
  LOCALE_PROVIDER = libc
  LC_COLLATE = 'C.UTF-8'
  LC_CTYPE = 'C.UTF-8'
-- undo: DROP DATABASE "lounges_prod"

-- access: make it private
-- connected to lounges_prod
BEGIN;
REVOKE CONNECT, TEMPORARY ON DATABASE "lounges_prod" FROM PUBLIC;
GRANT CONNECT ON DATABASE "lounges_prod" TO "mate";
COMMIT
-- undo: -- connected to lounges_prod
BEGIN;
REVOKE CONNECT ON DATABASE "lounges_prod" FROM "mate";
GRANT CONNECT, TEMPORARY ON DATABASE "lounges_prod" TO PUBLIC;
COMMIT

-- verify: read back and compare

-- undo: 

