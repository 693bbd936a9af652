package server

import "testing"

// TestBackupAndRestore: a copy by a backup has everything, its own files, and the login that made it as owner.
func TestBackupAndRestore(t *testing.T) {
	_, addr := start(t)
	c := conn(t, addr, "sa", saPassword, "")
	must(t, c, "CREATE DATABASE d", "USE d; CREATE TABLE t (id int PRIMARY KEY); INSERT t VALUES (1), (2)",
		"USE d; CREATE ROLE r; GRANT SELECT TO r; ALTER DATABASE d SET TRUSTWORTHY ON",
		"BACKUP DATABASE d TO DISK = N'/b/x.bak' WITH COPY_ONLY, FORMAT, CHECKSUM", "USE d; DELETE t", "USE master")
	for text, number := range map[string]int32{
		"BACKUP DATABASE nowhere TO DISK = '/b/y'":                                                  911,
		"BACKUP DATABASE d TO DISK = 'y'":                                                           3201,
		"BEGIN TRAN; BACKUP DATABASE d TO DISK = '/b/y'":                                            3021,
		"RESTORE DATABASE e FROM DISK = '/b/y'":                                                     3201,
		"RESTORE DATABASE d FROM DISK = '/b/x.bak'":                                                 3154,
		"RESTORE DATABASE e FROM DISK = '/b/x.bak'":                                                 1834,
		"RESTORE DATABASE e FROM DISK = '/b/x.bak' WITH MOVE 'z' TO '/data/z'":                      3234,
		"RESTORE DATABASE e FROM DISK = '/b/x.bak' WITH MOVE 'd' TO '/data/e', CHECKSUM, STATS = 5": 1834,
	} {
		refused(t, c, text, number, 3013)
		must(t, c, "IF @@TRANCOUNT > 0 ROLLBACK")
	}
	must(t, c, "RESTORE DATABASE e FROM DISK = '/b/x.bak' WITH MOVE 'd' TO '/data/e.mdf', "+
		"MOVE 'd_log' TO '/data/e.ldf'")
	if got := scalar[string](t, c, `SELECT CONCAT((SELECT COUNT(*) FROM e.dbo.t), (SELECT COUNT(*) FROM
		e.sys.database_permissions WHERE permission_name = 'SELECT'), (SELECT COUNT(DISTINCT family_guid) FROM sys.database_recovery_status r JOIN
		sys.databases d ON d.database_id = r.database_id WHERE d.name IN ('d', 'e')), (SELECT is_trustworthy_on FROM
		sys.databases WHERE name = 'e'))`); got != "2110" {
		t.Errorf("rows, grants, families and trust: %s", got)
	}
}
