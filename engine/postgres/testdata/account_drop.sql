-- statement: keep it out
ALTER ROLE "tickets_app" NOLOGIN
-- undo: ALTER ROLE "tickets_app" LOGIN

-- clear_sessions: end the sessions of tickets_app, and look until nobody is left
SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid = … AND backend_start = …
-- undo: 

-- hand_over: reassign what it owns to tickets_owner, and revoke what it was granted in tickets_prod
-- connected to tickets_prod
BEGIN;
REASSIGN OWNED BY "tickets_app" TO "tickets_owner";
DROP OWNED BY "tickets_app";
COMMIT
-- undo: -- connected to tickets_prod: puts back exactly what the step finds. The statements are noted right before it takes effect, and shown here then

-- statement: drop tickets_app
DROP ROLE "tickets_app"
-- undo: 

-- verify: read back that it is gone

-- undo: 

