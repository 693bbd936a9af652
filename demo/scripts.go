package demo

import (
	"os"
	"path/filepath"
)

// scripts are files by which databases of the demo can be filled.
var scripts = map[string]string{
	"gangways.sql": `-- The gangways of the terminals: for harbour/tickets_prod (PostgreSQL).
CREATE TABLE gangways (
    id integer PRIMARY KEY,
    pier text NOT NULL,
    width_cm integer NOT NULL CHECK (width_cm > 0)
);
COPY gangways (id, pier, width_cm) FROM stdin;
1	north	240
2	north; the old one	180
3	south	260
\.
CREATE VIEW wide_gangways AS SELECT * FROM gangways WHERE width_cm >= 240;
DO $$ BEGIN RAISE NOTICE '% gangways', (SELECT count(*) FROM gangways); END $$;
`,
	"perks.sql": `-- What regular passengers get: for quay/loyalty_prod (MariaDB).
DROP TABLE IF EXISTS perks;
CREATE TABLE perks (id INT PRIMARY KEY, name VARCHAR(60) NOT NULL, points INT NOT NULL);
INSERT INTO perks VALUES (1, 'lounge', 400), (2, 'early boarding; with car', 250), (3, 'deck chair', 80);
DELIMITER ;;
CREATE TRIGGER perks_named BEFORE INSERT ON perks FOR EACH ROW BEGIN SET NEW.name = TRIM(NEW.name); END ;;
DELIMITER ;
`,
	"quarantine.sql": `-- Goods that wait for a vet: for customs/clearance_prod (SQL Server).
CREATE SCHEMA quarantine
GO
CREATE TABLE quarantine.pens (id int PRIMARY KEY, name nvarchar(60) NOT NULL)
CREATE TABLE quarantine.animals (id int PRIMARY KEY, pen int NOT NULL, kind nvarchar(40) NOT NULL)
GO
INSERT quarantine.pens VALUES (1, N'north shed'), (2, N'the old one;
GO
no: it stands in a text')
INSERT quarantine.animals VALUES (1, 1, N'horse'), (2, 1, N'goat'), (3, 2, N'parrot')
GO
CREATE VIEW quarantine.birds AS SELECT id, pen FROM quarantine.animals WHERE kind = N'parrot'
GO
`,
}

// writeScripts writes them into the folder of the demo.
func writeScripts(dir string) error {
	into := filepath.Join(dir, "scripts")
	if err := os.MkdirAll(into, 0o700); err != nil {
		return err
	}
	for name, text := range scripts {
		if err := os.WriteFile(filepath.Join(into, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	return nil
}
