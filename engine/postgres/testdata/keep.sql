-- note_holding: note it in its comment
COMMENT ON DATABASE "genarch_held_16384_tickets_prod" IS '{"set_aside_by":"Genarch","name":"tickets_prod","since":"2026-11-27","kept_until":"2027-01-31","open":true,"tables":3,"hold":"it''s for the audit","comment":"bookings"}'
-- undo: COMMENT ON DATABASE "genarch_held_16384_tickets_prod" IS '{"set_aside_by":"Genarch","name":"tickets_prod","since":"2026-11-27","kept_until":"2026-12-27","open":true,"tables":3,"comment":"bookings"}'

-- verify: read back and compare

-- undo: 

