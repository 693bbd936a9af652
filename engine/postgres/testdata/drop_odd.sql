-- close_gate: close the gate: let nobody connect to ti"ck;ets any more
ALTER DATABASE "ti""ck;ets" ALLOW_CONNECTIONS false
-- undo: ALTER DATABASE "ti""ck;ets" ALLOW_CONNECTIONS true

-- clear_sessions: end the sessions of ti"ck;ets, and look until nobody is left
SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid = … AND backend_start = …
-- undo: 

-- drop_database: drop database ti"ck;ets
DROP DATABASE "ti""ck;ets"
-- undo: 

-- verify: read back that it is gone

-- undo: 

