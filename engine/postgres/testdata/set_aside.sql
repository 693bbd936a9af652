-- close_gate: close the gate: let nobody connect to tickets_prod any more
ALTER DATABASE "tickets_prod" ALLOW_CONNECTIONS false
-- undo: ALTER DATABASE "tickets_prod" ALLOW_CONNECTIONS true

-- clear_sessions: let work finish for 30s, end the sessions of tickets_prod, and look until nobody is left
SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid = … AND backend_start = …
-- undo: 

-- note_holding: note in its comment what it was, and how long it is kept
COMMENT ON DATABASE "tickets_prod" IS '{"set_aside_by":"Genarch","name":"tickets_prod","since":"1970-01-01","kept_until":"1970-01-31","open":true,"tables":3,"comment":"bookings"}'
-- undo: COMMENT ON DATABASE "tickets_prod" IS 'bookings'

-- rename_database: rename it to genarch_held_16384_tickets_prod
ALTER DATABASE "tickets_prod" RENAME TO "genarch_held_16384_tickets_prod"
-- undo: ALTER DATABASE "genarch_held_16384_tickets_prod" RENAME TO "tickets_prod"

-- verify: read back and compare

-- undo: 

