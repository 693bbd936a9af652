-- access: grant mate bundle read on tickets_prod
-- connected to tickets_prod
BEGIN;
GRANT CONNECT ON DATABASE "tickets_prod" TO "mate";
GRANT USAGE ON SCHEMA "public" TO "mate";
GRANT SELECT ON ALL TABLES IN SCHEMA "public" TO "mate";
GRANT SELECT ON ALL SEQUENCES IN SCHEMA "public" TO "mate";
ALTER DEFAULT PRIVILEGES FOR ROLE "tickets_owner" GRANT USAGE ON SCHEMAS TO "mate";
ALTER DEFAULT PRIVILEGES FOR ROLE "tickets_owner" GRANT SELECT ON TABLES TO "mate";
ALTER DEFAULT PRIVILEGES FOR ROLE "tickets_owner" GRANT SELECT ON SEQUENCES TO "mate";
COMMIT
-- undo: -- connected to tickets_prod
BEGIN;
ALTER DEFAULT PRIVILEGES FOR ROLE "tickets_owner" REVOKE SELECT ON SEQUENCES FROM "mate";
ALTER DEFAULT PRIVILEGES FOR ROLE "tickets_owner" REVOKE SELECT ON TABLES FROM "mate";
ALTER DEFAULT PRIVILEGES FOR ROLE "tickets_owner" REVOKE USAGE ON SCHEMAS FROM "mate";
REVOKE SELECT ON ALL SEQUENCES IN SCHEMA "public" FROM "mate";
REVOKE SELECT ON ALL TABLES IN SCHEMA "public" FROM "mate";
REVOKE USAGE ON SCHEMA "public" FROM "mate";
REVOKE CONNECT ON DATABASE "tickets_prod" FROM "mate";
COMMIT

-- verify: read back what it may do now

-- undo: 

