-- back_up: back up cargo
BACKUP DATABASE [cargo]
  TO DISK = N'/backup/genarch_copy_odd_name_43c16f28.bak' WITH COPY_ONLY, FORMAT, CHECKSUM
-- undo: BACKUP DATABASE [model]
  TO DISK = N'/backup/genarch_copy_odd_name_43c16f28.bak' WITH COPY_ONLY, FORMAT, CHECKSUM

-- restore: restore the backup as odd/name
RESTORE DATABASE [odd/name]
  FROM DISK = N'/backup/genarch_copy_odd_name_43c16f28.bak' WITH CHECKSUM,
  MOVE N'cargo' TO N'/data/odd_name_43c16f28.mdf',
  MOVE N'cargo_log' TO N'/log/odd_name_43c16f28_log.ldf',
  MOVE N'cold' TO N'/data/odd_name_43c16f28_cold.ndf',
  MOVE N'more' TO N'/data/odd_name_43c16f28_more.ndf'
-- undo: DROP DATABASE [odd/name]

-- empty_backup: write over the backup
BACKUP DATABASE [model]
  TO DISK = N'/backup/genarch_copy_odd_name_43c16f28.bak' WITH COPY_ONLY, FORMAT, CHECKSUM
-- undo: 

-- alter_database: recovery model: simple
ALTER DATABASE [odd/name] SET RECOVERY SIMPLE
-- undo: ALTER DATABASE [odd/name] SET RECOVERY FULL

-- set_owner: give it to mate
ALTER AUTHORIZATION ON DATABASE::[odd/name] TO [mate]
-- undo: ALTER AUTHORIZATION ON DATABASE::[odd/name] TO [genarch]

-- verify: read back and compare

-- undo: 

