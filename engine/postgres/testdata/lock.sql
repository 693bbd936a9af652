-- statement: alter tickets_app
ALTER ROLE "tickets_app" NOLOGIN
-- undo: ALTER ROLE "tickets_app" LOGIN

-- clear_sessions: end the sessions of tickets_app, and look until nobody is left
SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid = … AND backend_start = …
-- undo: 

-- verify: read back and compare

-- undo: 

