-- create_database: create database a"; DROP DATABASE x; --_prod
CREATE DATABASE "a""; DROP DATABASE x; --_prod" WITH
  OWNER = "keeper"
  TEMPLATE = "template1"
  ENCODING = 'UTF8'
  LOCALE_PROVIDER = libc
  LC_COLLATE = 'C.UTF-8'
  LC_CTYPE = 'C.UTF-8'
-- undo: DROP DATABASE "a""; DROP DATABASE x; --_prod"

-- comment: set the comment
COMMENT ON DATABASE "a""; DROP DATABASE x; --_prod" IS E'it''s \\ "so"'
-- undo: COMMENT ON DATABASE "a""; DROP DATABASE x; --_prod" IS NULL

-- verify: read back and compare, and connect to it

-- undo: 

