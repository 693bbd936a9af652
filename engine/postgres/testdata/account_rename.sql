-- statement: rename tickets_app to fares_app on harbour
ALTER ROLE "tickets_app" RENAME TO "fares_app"
-- undo: ALTER ROLE "fares_app" RENAME TO "tickets_app"

-- verify: read back

-- undo: 

