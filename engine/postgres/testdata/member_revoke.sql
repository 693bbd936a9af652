-- statement: end that mate belongs to crew
REVOKE "crew" FROM "mate" GRANTED BY "keeper"
-- undo: GRANT "crew" TO "mate" WITH ADMIN false, INHERIT true, SET true

-- verify: read back

-- undo: 

