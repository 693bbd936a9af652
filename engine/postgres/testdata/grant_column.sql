-- access: grant mate SELECT, UPDATE on column public.fares.pri"ce in tickets_prod
-- connected to tickets_prod
BEGIN;
GRANT SELECT ("pri""ce"), UPDATE ("pri""ce") ON TABLE "public"."fares" TO "mate";
COMMIT
-- undo: -- connected to tickets_prod
BEGIN;
REVOKE SELECT ("pri""ce"), UPDATE ("pri""ce") ON TABLE "public"."fares" FROM "mate";
COMMIT

-- verify: read back what it may do now

-- undo: 

