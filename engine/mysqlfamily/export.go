package mysqlfamily

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/lexical"
	"example.com/genarch/core/script"
	"example.com/genarch/engine"
)

// dumpProgram finds the program that exports from a server.
func (s *server) dumpProgram(ctx context.Context) (p engine.Program, why string) {
	names := strings.Join(s.product.dumps, " or ")
	if s.target.Server.TLS == catalog.TLSRequired {
		return p, names + " can check a certificate by an authority only, and this server is known by its key"
	}
	for _, name := range s.product.dumps {
		// On some machines a name is that of another product's program, which is the last resort.
		for _, found := range engine.Programs(ctx, name) {
			if p.Path == "" || ofMariaDB(p.Number) && !ofMariaDB(found.Number) {
				p = found
			}
		}
	}
	if p.Path == "" {
		return p, "there is no " + names + " on the machine of the service"
	}
	return p, ""
}

// ofMariaDB reports whether a program is MariaDB's, by the first number of its version; it has
// other options than MySQL's, and exports from both.
func ofMariaDB(number int) bool { return number >= 10 }

// export writes a database as a script, as seen at one moment where its tables have
// transactions.
func (s *server) export(ctx context.Context, step change.Step) (engine.Report, error) {
	name, srv := step.Args["name"], s.target.Server
	number, _ := strconv.Atoi(step.Args["number"])
	plain, verified := []string{"--skip-ssl"}, "--ssl-verify-server-cert"
	if !ofMariaDB(number) {
		plain, verified = []string{"--ssl-mode=DISABLED", "--get-server-public-key"}, "--ssl-mode=VERIFY_IDENTITY"
	}
	args := []string{"--no-defaults", "--single-transaction", "--routines", "--events", "--triggers", "--hex-blob",
		"--no-tablespaces", "--default-character-set=utf8mb4", "--user=" + srv.Admin}
	if srv.OnSocket() {
		args = append(args, "--socket="+srv.Host)
	} else {
		args = append(args, "--protocol=tcp", "--host="+srv.Host, "--port="+strconv.Itoa(srv.Port))
	}
	switch {
	case srv.TLS != catalog.TLSVerified:
		args = append(args, plain...)
	case srv.CA == "":
		args = append(args, verified, "--ssl-ca=/etc/ssl/certs/ca-certificates.crt")
	default:
		f, err := os.CreateTemp("", "genarch-ca-*.pem")
		if err == nil {
			defer os.Remove(f.Name()) //nolint:errcheck // a certificate, which is no secret
			_, err = f.WriteString(srv.CA)
			err = errors.Join(err, f.Close())
		}
		if err != nil {
			return engine.Report{}, &engine.Error{Op: step.Title, Kind: engine.NotSent, Err: err}
		}
		args = append(args, verified, "--ssl-ca="+f.Name())
	}
	if !ofMariaDB(number) { // these ask for privileges, and for tables, that an export needs not
		args = append(args, "--set-gtid-purged=OFF", "--column-statistics=0")
	}
	cmd := engine.Command(ctx, step.Args["program"], []string{"MYSQL_PWD=" + s.target.Password.Reveal()},
		append(args, "--", name)...)
	days, _ := strconv.Atoi(step.Args["days"])
	x := change.Export{Database: name, Program: step.Args["by"], File: "sql", Days: days,
		Restore: "genarch database fill SERVER/DATABASE FILE, or the engine's own client"}
	return engine.Dump(ctx, step, x, cmd, readDump,
		func() *engine.Contents { return s.liveContents(ctx, name) })
}

// readDump reads a dump to its end, and counts.
func readDump(from io.Reader) (engine.Contents, error) {
	var out engine.Contents
	last := &tail{}
	split := newSplitter(io.TeeReader(from, last))
	for {
		st, err := split.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return out, err
		}
		switch st.Kind {
		case "CREATE TABLE":
			out.Tables++
		case "INSERT":
			out.Rows += countRows(st)
		}
	}
	if !bytes.Contains(last.text, []byte("-- Dump completed")) {
		return out, errors.New("it does not say at its end that it is whole")
	}
	return out, nil
}

// countRows counts the rows of an INSERT by their parentheses.
func countRows(st script.Statement) (n int64) {
	depth := 0
	s := lexical.NewStream(strings.NewReader(st.Text), script.MaxStatement)
	values := false
	for {
		s.Mark()
		t, err := s.Next(dialect, "")
		switch {
		case err != nil:
			return n
		case t.Kind == lexical.Other && strings.EqualFold(t.Text, "VALUES"):
			values = true
		case t.Text == "(":
			if depth++; depth == 1 && values {
				n++
			}
		case t.Text == ")":
			depth--
		}
	}
}

// tail keeps the end of what is written to it.
type tail struct{ text []byte }

// Write takes more.
func (t *tail) Write(part []byte) (int, error) {
	t.text = append(t.text, part...)
	if over := len(t.text) - 4096; over > 0 {
		t.text = slices.Clone(t.text[over:])
	}
	return len(part), nil
}

// liveContents counts tables. Their rows are not: between looking that a name is a table's and
// counting, it could become a view's, which runs anybody's function.
func (s *server) liveContents(ctx context.Context, name string) *engine.Contents {
	out := engine.Contents{Rows: -1}
	err := s.db.QueryRowContext(ctx, `SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?
		AND TABLE_TYPE IN ('BASE TABLE', 'SYSTEM VERSIONED')`, name).Scan(&out.Tables)
	if err != nil {
		return nil
	}
	return &out
}
