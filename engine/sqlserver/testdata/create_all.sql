-- create_database: create database berths
CREATE DATABASE [berths]
  ON PRIMARY (NAME = N'berth', FILENAME = N'/data/berths.mdf', SIZE = 65536KB, MAXSIZE = 1048576KB, FILEGROWTH = 65536KB),
  FILEGROUP [archive] (NAME = N'cold', FILENAME = N'/cold/cold.ndf')
  LOG ON (NAME = N'trail', FILENAME = N'/log/berths_log.ldf')
  COLLATE Finnish_Swedish_CI_AS
-- undo: DROP DATABASE [berths]

-- alter_database: read committed by snapshot: yes
ALTER DATABASE [berths] SET READ_COMMITTED_SNAPSHOT ON WITH NO_WAIT
-- undo: ALTER DATABASE [berths] SET READ_COMMITTED_SNAPSHOT OFF WITH NO_WAIT

-- alter_database: recovery model: simple
ALTER DATABASE [berths] SET RECOVERY SIMPLE
-- undo: ALTER DATABASE [berths] SET RECOVERY FULL

-- alter_database: compatibility level: 150
ALTER DATABASE [berths] SET COMPATIBILITY_LEVEL = 150
-- undo: ALTER DATABASE [berths] SET COMPATIBILITY_LEVEL = 160

-- alter_database: update them aside: yes
ALTER DATABASE [berths] SET AUTO_UPDATE_STATISTICS_ASYNC ON
-- undo: ALTER DATABASE [berths] SET AUTO_UPDATE_STATISTICS_ASYNC OFF

-- set_owner: give it to mate
ALTER AUTHORIZATION ON DATABASE::[berths] TO [mate]
-- undo: ALTER AUTHORIZATION ON DATABASE::[berths] TO [genarch]

-- verify: read back and compare

-- undo: 

