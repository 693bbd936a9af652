-- create_role: create role audit`ors
CREATE ROLE 'audit`ors'@'%'
-- undo: DROP ROLE 'audit`ors'@'%'

-- verify: read back and compare

-- undo: 

