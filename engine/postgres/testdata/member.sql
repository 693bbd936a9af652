-- statement: make tickets_app a member of crew
GRANT "crew" TO "tickets_app" WITH ADMIN true, INHERIT true, SET true
-- undo: REVOKE "crew" FROM "tickets_app"

-- verify: read back

-- undo: 

