-- clear_sessions: end the sessions of ti"ck;ets, and look until nobody is left
SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid = … AND backend_start = …
-- undo: 

-- note_holding: note in its comment what it was, and how long it is kept
COMMENT ON DATABASE "ti""ck;ets" IS E'{"set_aside_by":"Genarch","name":"ti\\"ck;ets","since":"1970-01-01","kept_until":"1970-04-01","open":false,"tables":3,"comment":"bookings"}'
-- undo: COMMENT ON DATABASE "ti""ck;ets" IS 'bookings'

-- rename_database: rename it to genarch_held_16384_ti"ck;ets
ALTER DATABASE "ti""ck;ets" RENAME TO "genarch_held_16384_ti""ck;ets"
-- undo: ALTER DATABASE "genarch_held_16384_ti""ck;ets" RENAME TO "ti""ck;ets"

-- verify: read back and compare

-- undo: 

