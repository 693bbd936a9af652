-- alter_database: recovery model: simple
ALTER DATABASE [cargo] SET RECOVERY SIMPLE
-- undo: ALTER DATABASE [cargo] SET RECOVERY FULL

-- alter_database: alter the file cargo
ALTER DATABASE [cargo] MODIFY FILE (NAME = N'cargo', SIZE = 16384KB, FILEGROWTH = 32768KB)
-- undo: ALTER DATABASE [cargo] MODIFY FILE (NAME = N'cargo', FILEGROWTH = 65536KB)

-- alter_database: add the filegroup archive
ALTER DATABASE [cargo] ADD FILEGROUP [archive]
-- undo: ALTER DATABASE [cargo] REMOVE FILEGROUP [archive]

-- alter_database: add the file cold
ALTER DATABASE [cargo] ADD FILE (NAME = N'cold', FILENAME = N'/data/cargo_cold.ndf') TO FILEGROUP [archive]
-- undo: ALTER DATABASE [cargo] REMOVE FILE [cold]

-- alter_database: add the file trail
ALTER DATABASE [cargo] ADD LOG FILE (NAME = N'trail', FILENAME = N'/log/cargo_trail.ldf')
-- undo: ALTER DATABASE [cargo] REMOVE FILE [trail]

-- set_owner: give it to mate
ALTER AUTHORIZATION ON DATABASE::[cargo] TO [mate]
-- undo: ALTER AUTHORIZATION ON DATABASE::[cargo] TO [cargo_owner]

-- verify: read back and compare

-- undo: 

