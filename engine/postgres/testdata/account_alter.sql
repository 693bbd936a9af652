-- statement: alter tickets_app
ALTER ROLE "tickets_app" CONNECTION LIMIT 5 VALID UNTIL 'infinity' NOLOGIN
-- undo: ALTER ROLE "tickets_app" CONNECTION LIMIT -1 VALID UNTIL 'infinity' LOGIN

-- statement: set the comment
COMMENT ON ROLE "tickets_app" IS E'it''s "so" \\'
-- undo: COMMENT ON ROLE "tickets_app" IS NULL

-- verify: read back and compare

-- undo: 

