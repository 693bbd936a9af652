-- create_database: create database a_prod
CREATE DATABASE "a_prod" WITH
  OWNER = "crew"
  TEMPLATE = "template0"
  STRATEGY = FILE_COPY
  ENCODING = 'LATIN1'
  LOCALE_PROVIDER = libc
  LC_COLLATE = 'C'
  LC_CTYPE = 'C'
  TABLESPACE = "fast"
  ALLOW_CONNECTIONS = false
  CONNECTION LIMIT = 5
  IS_TEMPLATE = true
-- undo: DROP DATABASE "a_prod"

-- comment: set the comment
COMMENT ON DATABASE "a_prod" IS 'all of it'
-- undo: COMMENT ON DATABASE "a_prod" IS NULL

-- verify: read back and compare, and connect to it

-- undo: 

