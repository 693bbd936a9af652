package e2e

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"example.com/genarch/engine/mariadb/marialocal"
	"example.com/genarch/engine/postgres/pglocal"
	"example.com/genarch/localdb"
	"example.com/genarch/testutil"
)

// scriptSize is how large the scripts are that are run beside the engines' own clients.
const scriptSize = 100 << 20

// bigScript writes a script of INSERTs and, with rows, of COPY too.
func bigScript(b *testing.B, rows bool) string {
	b.Helper()
	file := filepath.Join(b.TempDir(), "big.sql")
	f, err := os.Create(file)
	if err != nil {
		b.Fatal(err)
	}
	w := bufio.NewWriter(f)
	fmt.Fprintln(w, "DROP TABLE IF EXISTS big;\nCREATE TABLE big (id int, label text, amount decimal(10,2));")
	size, inserts := 0, scriptSize
	if rows {
		inserts = scriptSize / 2
	}
	for i := 0; size < inserts; i++ {
		var list []string
		for n := range 500 {
			list = append(list, fmt.Sprintf("(%d,'crossing %d at the north pier, cabin',%d.50)", n, i, n%1000))
		}
		n, _ := fmt.Fprintf(w, "INSERT INTO big VALUES %s;\n", strings.Join(list, ","))
		size += n
	}
	if rows {
		fmt.Fprintln(w, "COPY big (id, label, amount) FROM stdin;")
		for i := 0; size < scriptSize; i++ {
			n, _ := fmt.Fprintf(w, "%d\tcrossing %d at the north pier, cabin\t%d.50\n", i, i, i%1000)
			size += n
		}
		fmt.Fprintln(w, `\.`)
	}
	if err := w.Flush(); err != nil {
		b.Fatal(err)
	}
	if err := f.Close(); err != nil {
		b.Fatal(err)
	}
	return file
}

// fillBeside runs a script by the engine's own client and by Genarch in turn.
func fillBeside(b *testing.B, s *service, address, file string, client *exec.Cmd) {
	b.Helper()
	testutil.Beside(b, 3, func(int) {
		c := exec.Command(client.Path, client.Args[1:]...)
		c.Env = client.Env
		if out, err := c.CombinedOutput(); err != nil {
			b.Fatalf("%v: %s", err, out)
		}
	}, func(int) {
		if r := s.cli("", "database", "fill", address, file, "--yes", "--accept", "script.drops"); r.code != 0 {
			b.Fatal(r.err)
		}
	})
	b.ReportMetric(float64(s.peak(b))/(1<<20), "MiB-peak")
}

// peak is the most memory that the service has taken so far, in bytes. Source: VmHWM of proc(5).
func (s *service) peak(b *testing.B) int64 {
	b.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.cmd.Process.Pid))
	if err != nil {
		b.Skip(err)
	}
	var kB int64
	for line := range strings.Lines(string(text)) {
		_, _ = fmt.Sscanf(line, "VmHWM: %d kB", &kB)
	}
	return kB << 10
}

// BenchmarkFillPostgres runs 100 MiB of INSERTs and COPY beside psql; the goal is 1.3 times.
func BenchmarkFillPostgres(b *testing.B) {
	s, pg := benchService(b), durable(b, pglocal.Start)
	s.add("harbour", "postgresql", "development", pg, "--free-names")
	benchOwner(b, pg)
	file := bigScript(b, true)
	client := exec.Command("psql", "-q", "-1", "-X", "-v", "ON_ERROR_STOP=1", "-f", file, pg.DSN("bare"))
	client.Env = os.Environ()
	fillBeside(b, s, "harbour/ours", file, client)
}

// BenchmarkFillMariaDB runs 100 MiB of INSERTs beside the engine's client; the goal is 1.3 times.
func BenchmarkFillMariaDB(b *testing.B) {
	s, maria := benchService(b), durable(b, marialocal.Start)
	s.add("quay", "mariadb", "development", maria, "--free-names")
	db := onMariaDB(b, maria.DSN(""))
	for _, name := range []string{"bare", "ours"} {
		if _, err := db.ExecContext(b.Context(), "CREATE DATABASE "+name); err != nil {
			b.Fatal(err)
		}
	}
	file := bigScript(b, false)
	client := exec.Command("sh", "-c", `exec mariadb --no-defaults -h "$1" -P "$2" -u "$3" bare < "$4"`, "sh",
		maria.Host, fmt.Sprint(maria.Port), maria.Admin, file)
	client.Env = append(os.Environ(), "MYSQL_PWD="+maria.Password.Reveal())
	fillBeside(b, s, "quay/ours", file, client)
}

// benchOwner makes the two databases with an owner that is no superuser.
func benchOwner(b *testing.B, pg *localdb.Server) {
	b.Helper()
	conn := onPostgres(b, pg, "postgres")
	for _, text := range []string{"CREATE ROLE crew", "CREATE ROLE mates",
		"CREATE DATABASE bare OWNER mates", "CREATE DATABASE ours OWNER crew"} {
		if _, err := conn.Exec(b.Context(), text); err != nil {
			b.Fatal(err)
		}
	}
}
