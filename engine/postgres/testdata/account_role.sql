-- create_role: create role auditors
CREATE ROLE "auditors" NOLOGIN
-- undo: DROP ROLE "auditors"

-- verify: read back and compare

-- undo: 

