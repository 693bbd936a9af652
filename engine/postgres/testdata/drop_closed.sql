-- clear_sessions: end the sessions of tickets_prod, and look until nobody is left
SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid = … AND backend_start = …
-- undo: 

-- drop_database: drop database tickets_prod
DROP DATABASE "tickets_prod"
-- undo: 

-- verify: read back that it is gone

-- undo: 

