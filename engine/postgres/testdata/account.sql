-- create_role: create account o"dd'app
CREATE ROLE "o""dd'app" LOGIN CONNECTION LIMIT 5 VALID UNTIL '2027-01-31 UTC' PASSWORD '••••••'
-- undo: DROP ROLE "o""dd'app"

-- statement: set the comment
COMMENT ON ROLE "o""dd'app" IS E'it''s "so" \\'
-- undo: COMMENT ON ROLE "o""dd'app" IS NULL

-- verify: read back and compare

-- undo: 

-- prove: sign in as o"dd'app

-- undo: 

