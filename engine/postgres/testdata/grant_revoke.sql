-- access: revoke everything on tickets_prod from tickets_app
-- connected to tickets_prod
BEGIN;
ALTER DEFAULT PRIVILEGES FOR ROLE "tickets_owner" REVOKE SELECT, UPDATE, USAGE ON SEQUENCES FROM "tickets_app";
ALTER DEFAULT PRIVILEGES FOR ROLE "tickets_owner" REVOKE SELECT, INSERT, UPDATE, DELETE, TRUNCATE, REFERENCES, TRIGGER, MAINTAIN ON TABLES FROM "tickets_app";
ALTER DEFAULT PRIVILEGES FOR ROLE "tickets_owner" REVOKE USAGE, CREATE ON SCHEMAS FROM "tickets_app";
REVOKE SELECT, UPDATE, USAGE ON ALL SEQUENCES IN SCHEMA "public" FROM "tickets_app";
REVOKE SELECT, INSERT, UPDATE, DELETE, TRUNCATE, REFERENCES, TRIGGER, MAINTAIN ON ALL TABLES IN SCHEMA "public" FROM "tickets_app";
REVOKE USAGE, CREATE ON SCHEMA "public" FROM "tickets_app";
REVOKE CREATE, CONNECT, TEMPORARY ON DATABASE "tickets_prod" FROM "tickets_app";
COMMIT
-- undo: -- connected to tickets_prod: puts back exactly what the step finds. The statements are noted right before it takes effect, and shown here then

-- verify: read back what it may do now

-- undo: 

