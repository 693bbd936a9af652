-- alter_database: make cargo_prod read only
ALTER DATABASE `cargo_prod` READ ONLY = 1
-- undo: ALTER DATABASE `cargo_prod` READ ONLY = 0

-- verify: read back and compare

-- undo: 

