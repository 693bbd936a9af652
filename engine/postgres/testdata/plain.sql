-- create_database: create database a_prod
CREATE DATABASE "a_prod" WITH
  OWNER = "keeper"
  TEMPLATE = "template1"
  ENCODING = 'UTF8'
  LOCALE_PROVIDER = libc
  LC_COLLATE = 'C.UTF-8'
  LC_CTYPE = 'C.UTF-8'
-- undo: DROP DATABASE "a_prod"

-- verify: read back and compare, and connect to it

-- undo: 

