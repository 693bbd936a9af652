-- statement: keep it out
ALTER ROLE "tickets_app" NOLOGIN
-- undo: ALTER ROLE "tickets_app" LOGIN

-- clear_sessions: end the sessions of tickets_app, and look until nobody is left
SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid = … AND backend_start = …
-- undo: 

-- statement: note in its comment what it was, and how long it is kept
COMMENT ON ROLE "tickets_app" IS '{"set_aside_by":"Genarch","name":"tickets_app","since":"1970-01-01","kept_until":"1970-01-06","open":true}'
-- undo: COMMENT ON ROLE "tickets_app" IS NULL

-- statement: rename it to genarch_held_account__tickets_app
ALTER ROLE "tickets_app" RENAME TO "genarch_held_account__tickets_app"
-- undo: ALTER ROLE "genarch_held_account__tickets_app" RENAME TO "tickets_app"

-- verify: read back and compare

-- undo: 

