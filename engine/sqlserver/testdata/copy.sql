-- back_up: back up cargo
BACKUP DATABASE [cargo]
  TO DISK = N'/backup/genarch_copy_freight.bak' WITH COPY_ONLY, FORMAT, CHECKSUM
-- undo: BACKUP DATABASE [model]
  TO DISK = N'/backup/genarch_copy_freight.bak' WITH COPY_ONLY, FORMAT, CHECKSUM

-- restore: restore the backup as freight
RESTORE DATABASE [freight]
  FROM DISK = N'/backup/genarch_copy_freight.bak' WITH CHECKSUM,
  MOVE N'cargo' TO N'/data/freight.mdf',
  MOVE N'cargo_log' TO N'/log/freight_log.ldf',
  MOVE N'cold' TO N'/data/freight_cold.ndf',
  MOVE N'more' TO N'/data/freight_more.ndf'
-- undo: DROP DATABASE [freight]

-- empty_backup: write over the backup
BACKUP DATABASE [model]
  TO DISK = N'/backup/genarch_copy_freight.bak' WITH COPY_ONLY, FORMAT, CHECKSUM
-- undo: 

-- set_owner: give it to cargo_owner
ALTER AUTHORIZATION ON DATABASE::[freight] TO [cargo_owner]
-- undo: ALTER AUTHORIZATION ON DATABASE::[freight] TO [genarch]

-- verify: read back and compare

-- undo: 

