-- comment: set the comment
COMMENT ON DATABASE "tickets_prod" IS E'it''s "odd" \\ '
-- undo: COMMENT ON DATABASE "tickets_prod" IS 'bookings'

-- alter_database: connection limit: 9
ALTER DATABASE "tickets_prod" CONNECTION LIMIT 9
-- undo: ALTER DATABASE "tickets_prod" CONNECTION LIMIT 3

-- alter_database: connections allowed: no
ALTER DATABASE "tickets_prod" ALLOW_CONNECTIONS false
-- undo: ALTER DATABASE "tickets_prod" ALLOW_CONNECTIONS true

-- alter_database: may serve as template: yes
ALTER DATABASE "tickets_prod" IS_TEMPLATE true
-- undo: ALTER DATABASE "tickets_prod" IS_TEMPLATE false

-- alter_database: set search_path to desk, "$user", "a, b"
ALTER DATABASE "tickets_prod" SET "search_path" TO 'desk', '$user', 'a, b'
-- undo: ALTER DATABASE "tickets_prod" RESET "search_path"

-- alter_database: reset the setting work_mem
ALTER DATABASE "tickets_prod" RESET "work_mem"
-- undo: ALTER DATABASE "tickets_prod" SET "work_mem" TO '4MB'

-- alter_database: set desk.mode to "it's \"odd\" \\ "
ALTER DATABASE "tickets_prod" SET "desk.mode" TO E'it''s "odd" \\ '
-- undo: ALTER DATABASE "tickets_prod" RESET "desk.mode"

-- alter_database: owner: crew
ALTER DATABASE "tickets_prod" OWNER TO "crew"
-- undo: ALTER DATABASE "tickets_prod" OWNER TO "tickets_owner"

-- alter_database: note the version of the collation that the system has now
ALTER DATABASE "tickets_prod" REFRESH COLLATION VERSION
-- undo: 

-- verify: read back and compare

-- undo: 

