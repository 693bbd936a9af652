-- drop_database: drop database genarch_held_16384_tickets_prod
DROP DATABASE "genarch_held_16384_tickets_prod"
-- undo: 

-- verify: read back that it is gone

-- undo: 

