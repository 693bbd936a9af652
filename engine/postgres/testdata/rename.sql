-- close_gate: close the gate: let nobody connect to tickets_prod any more
ALTER DATABASE "tickets_prod" ALLOW_CONNECTIONS false
-- undo: ALTER DATABASE "tickets_prod" ALLOW_CONNECTIONS true

-- clear_sessions: wait up to 10m until nobody is connected to tickets_prod

-- undo: 

-- rename_database: rename it to fares_prod
ALTER DATABASE "tickets_prod" RENAME TO "fares_prod"
-- undo: ALTER DATABASE "fares_prod" RENAME TO "tickets_prod"

-- open_gate: open the gate: let everybody connect again
ALTER DATABASE "fares_prod" ALLOW_CONNECTIONS true
-- undo: 

-- verify: read back and compare

-- undo: 

