-- create_role: create role audit`ors
CREATE ROLE `audit``ors` WITH ADMIN CURRENT_USER
-- undo: DROP ROLE `audit``ors`

-- verify: read back and compare

-- undo: 

