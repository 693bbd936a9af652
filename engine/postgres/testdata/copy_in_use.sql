-- close_gate: close the gate: let nobody connect to template1 any more
ALTER DATABASE "template1" ALLOW_CONNECTIONS false
-- undo: ALTER DATABASE "template1" ALLOW_CONNECTIONS true

-- clear_sessions: end the sessions of the template template1, and look until nobody is left
SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid = … AND backend_start = …
-- undo: 

-- create_database: create database a_prod
CREATE DATABASE "a_prod" WITH
  OWNER = "keeper"
  TEMPLATE = "template1"
  ENCODING = 'UTF8'
  LOCALE_PROVIDER = libc
  LC_COLLATE = 'C.UTF-8'
  LC_CTYPE = 'C.UTF-8'
-- undo: DROP DATABASE "a_prod"

-- open_gate: open the gate: let everybody connect to template1 again
ALTER DATABASE "template1" ALLOW_CONNECTIONS true
-- undo: 

-- verify: read back and compare

-- undo: 

