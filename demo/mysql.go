package demo

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"example.com/genarch/engine/mysql/mysqllocal"
	"example.com/genarch/localdb"
)

// mysqlVersion is what jetty is.
const mysqlVersion = "8.4.3"

// web are the databases of what the company shows on the web.
var web = []demoDatabase{
	{"webshop", "webshop_app", "", map[string]int{"orders": 5400, "baskets": 900, "vouchers": 120}},
	{"newsletter", "newsletter_app", "", map[string]int{"subscribers": 3300, "letters": 60}},
	{"timetable_feed", "feed_app", "", map[string]int{"departures": 2600}},
}

// startMySQL starts a stand-in.
func startMySQL(ctx context.Context, cfg localdb.Config) (*localdb.Server, error) {
	program, err := standin()
	if err != nil {
		return nil, err
	}
	return mysqllocal.Start(ctx, program, mysqlVersion, cfg)
}

// standin is the program of the stand-ins.
func standin() (string, error) {
	self, err := os.Executable()
	if err != nil {
		return "", err
	}
	program := filepath.Join(filepath.Dir(self), "standin")
	if _, err := os.Stat(program); err != nil {
		return "", errors.New("the program standin is not beside genarch; make build makes both")
	}
	return program, nil
}

// digits are the numbers from 0 to 9.
const digits = "(SELECT 0 AS n UNION ALL SELECT 1 UNION ALL SELECT 2 UNION ALL SELECT 3 UNION ALL SELECT 4 " +
	"UNION ALL SELECT 5 UNION ALL SELECT 6 UNION ALL SELECT 7 UNION ALL SELECT 8 UNION ALL SELECT 9)"

// seedMySQL fills jetty. Some of its accounts deserve a look: one that gets in only from where
// another does not, one with a grant on a database that is gone, and one whose role is dormant.
func seedMySQL(ctx context.Context, b demoServer, s *localdb.Server) error {
	db, err := sql.Open("mysql", s.DSN(""))
	if err != nil {
		return err
	}
	defer db.Close()
	var there int
	if err := db.QueryRowContext(ctx, "SELECT COUNT(*) FROM mysql.user WHERE User = 'letter_desk'").
		Scan(&there); err != nil || there > 0 {
		return err
	}
	password := " IDENTIFIED BY '" + s.Password.Reveal() + "'"
	var texts []string
	for _, h := range demoDatabases[b.name] {
		name := h.name + b.suffix
		texts = append(texts, "DROP DATABASE IF EXISTS `"+name+"`",
			"CREATE DATABASE `"+name+"` CHARACTER SET utf8mb4 COLLATE utf8mb4_0900_ai_ci",
			"DROP USER IF EXISTS '"+h.owner+"'@'127.0.0.1'", "CREATE USER '"+h.owner+"'@'127.0.0.1'"+password,
			"GRANT ALL PRIVILEGES ON `"+strings.ReplaceAll(name, "_", `\_`)+"`.* TO '"+h.owner+"'@'127.0.0.1'")
		for table, rows := range h.tables {
			texts = append(texts, fmt.Sprintf("CREATE TABLE `%s`.%s (id BIGINT PRIMARY KEY, code VARCHAR(20) NOT NULL, "+
				"noted DATETIME NOT NULL, detail TEXT, KEY (noted))", name, table),
				fmt.Sprintf("INSERT INTO `%s`.%s SELECT i, CONCAT('OL-', LPAD(i, 6, '0')), NOW() - INTERVAL i * 7 MINUTE, "+
					"REPEAT(MD5(i), 3) FROM (SELECT 1 + a.n + b.n * 10 + c.n * 100 + d.n * 1000 AS i FROM %s a, %[3]s b, %[3]s c, "+
					"%[3]s d) n WHERE i <= %d", name, table, digits, rows))
		}
	}
	texts = append(texts,
		"DROP USER IF EXISTS 'web_report'@'10.20.%'", "CREATE USER 'web_report'@'10.20.%'"+password,
		"GRANT SELECT, SHOW VIEW ON `timetable\\_feed\\"+b.suffix+"`.* TO 'web_report'@'10.20.%'",
		"GRANT SELECT ON `fairs\\"+b.suffix+"`.* TO 'web_report'@'10.20.%'",
		"DROP USER IF EXISTS 'webshop_app'@'%'", "CREATE USER 'webshop_app'@'%'"+password,
		"GRANT SELECT, INSERT ON `webshop\\"+b.suffix+"`.* TO 'webshop_app'@'%'",
		"DROP ROLE IF EXISTS 'editors'@'%'", "CREATE ROLE 'editors'@'%'",
		"GRANT SELECT, INSERT, UPDATE, DELETE ON `newsletter\\"+b.suffix+"`.* TO 'editors'@'%'",
		"CREATE USER 'letter_desk'@'10.20.4.%'"+password, "GRANT 'editors'@'%' TO 'letter_desk'@'10.20.4.%'")
	for _, text := range texts {
		if _, err := db.ExecContext(ctx, text); err != nil {
			return fmt.Errorf("%s: %w", strings.ReplaceAll(text, s.Password.Reveal(), "…"), err)
		}
	}
	return nil
}
