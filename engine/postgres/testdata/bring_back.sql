-- rename_database: rename it to tickets_prod
ALTER DATABASE "genarch_held_16384_tickets_prod" RENAME TO "tickets_prod"
-- undo: ALTER DATABASE "tickets_prod" RENAME TO "genarch_held_16384_tickets_prod"

-- note_holding: give it its comment back
COMMENT ON DATABASE "tickets_prod" IS 'bookings'
-- undo: COMMENT ON DATABASE "tickets_prod" IS '{"set_aside_by":"Genarch","name":"tickets_prod","since":"2026-11-27","kept_until":"2026-12-27","open":true,"tables":3,"comment":"bookings"}'

-- open_gate: open the gate: let everybody connect again
ALTER DATABASE "tickets_prod" ALLOW_CONNECTIONS true
-- undo: 

-- verify: read back and compare

-- undo: 

