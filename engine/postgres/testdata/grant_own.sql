-- access: grant CONNECT to mate
-- connected to tickets_prod
BEGIN;
GRANT CONNECT, TEMPORARY ON DATABASE "tickets_prod" TO "mate";
COMMIT
-- undo: -- connected to tickets_prod
BEGIN;
REVOKE CONNECT, TEMPORARY ON DATABASE "tickets_prod" FROM "mate";
COMMIT

-- statement: let it act as the owner tickets_owner
GRANT "tickets_owner" TO "mate" WITH INHERIT TRUE, SET TRUE
-- undo: REVOKE "tickets_owner" FROM "mate"

-- statement: let what it makes belong to the owner
ALTER ROLE "mate" IN DATABASE "tickets_prod" SET role = 'tickets_owner'
-- undo: ALTER ROLE "mate" IN DATABASE "tickets_prod" RESET role

-- verify: read back what it may do now

-- undo: 

