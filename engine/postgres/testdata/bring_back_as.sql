-- close_gate: close the gate: let nobody connect to genarch_held_16384_tickets_prod any more
ALTER DATABASE "genarch_held_16384_tickets_prod" ALLOW_CONNECTIONS false
-- undo: ALTER DATABASE "genarch_held_16384_tickets_prod" ALLOW_CONNECTIONS true

-- clear_sessions: end the sessions of genarch_held_16384_tickets_prod, and look until nobody is left
SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid = … AND backend_start = …
-- undo: 

-- rename_database: rename it to fares_prod
ALTER DATABASE "genarch_held_16384_tickets_prod" RENAME TO "fares_prod"
-- undo: ALTER DATABASE "fares_prod" RENAME TO "genarch_held_16384_tickets_prod"

-- note_holding: give it its comment back
COMMENT ON DATABASE "fares_prod" IS 'bookings'
-- undo: COMMENT ON DATABASE "fares_prod" IS '{"set_aside_by":"Genarch","name":"tickets_prod","since":"2026-11-27","kept_until":"2026-12-27","open":true,"tables":3,"comment":"bookings"}'

-- open_gate: open the gate: let everybody connect again
ALTER DATABASE "fares_prod" ALLOW_CONNECTIONS true
-- undo: 

-- verify: read back and compare

-- undo: 

