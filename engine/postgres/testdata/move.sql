-- close_gate: close the gate: let nobody connect to tickets_prod any more
ALTER DATABASE "tickets_prod" ALLOW_CONNECTIONS false
-- undo: ALTER DATABASE "tickets_prod" ALLOW_CONNECTIONS true

-- clear_sessions: end the sessions of tickets_prod, and look until nobody is left
SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid = … AND backend_start = …
-- undo: 

-- move_database: move its files to fast
ALTER DATABASE "tickets_prod" SET TABLESPACE "fast"
-- undo: ALTER DATABASE "tickets_prod" SET TABLESPACE "pg_default"

-- open_gate: open the gate: let everybody connect again
ALTER DATABASE "tickets_prod" ALLOW_CONNECTIONS true
-- undo: 

-- verify: read back and compare

-- undo: 

