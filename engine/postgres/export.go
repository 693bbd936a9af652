package postgres

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/script"
	"example.com/genarch/engine"
)

// dumpPlaces are where Debian and others keep the programs of each version.
var dumpPlaces = []string{"/usr/lib/postgresql/*/bin/pg_dump", "/usr/pgsql-*/bin/pg_dump"}

// dumpProgram finds the program that exports from a server: of its version, or of the next
// later one that there is. An earlier one refuses the server.
func (s *server) dumpProgram(ctx context.Context, number int) (p engine.Program, why string) {
	if s.target.Server.TLS == catalog.TLSRequired {
		return p, "pg_dump can check a certificate by an authority only, and this server is known by its key"
	}
	list := engine.Programs(ctx, "pg_dump", dumpPlaces...)
	for _, p := range list {
		if p.Number >= number/10000 {
			return p, ""
		}
	}
	if len(list) == 0 {
		return p, "there is no pg_dump on the machine of the service"
	}
	return p, fmt.Sprintf("pg_dump on the machine of the service is of version %s, and the server of %d",
		list[len(list)-1].Version, number/10000)
}

// connection writes how a program reaches a database, as libpq reads it (its documentation,
// "Connection Strings"). The password goes by the environment. files are removed by done.
func (s *server) connection(database string) (text string, done func(), err error) {
	srv := s.target.Server
	quoted := func(v string) string { return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(v) + "'" }
	host, port := srv.Host, strconv.Itoa(srv.Port)
	if srv.OnSocket() {
		host, port = filepath.Dir(srv.Host), strings.TrimPrefix(filepath.Ext(srv.Host), ".")
	}
	text = "host=" + quoted(host) + " port=" + quoted(port) + " user=" + quoted(srv.Admin) + " dbname=" +
		quoted(database) + " application_name=genarch connect_timeout=5"
	done = func() {}
	if srv.TLS != catalog.TLSVerified {
		return text + " sslmode=disable", done, nil
	}
	roots := "/etc/ssl/certs/ca-certificates.crt"
	if srv.CA != "" {
		f, err := os.CreateTemp("", "genarch-ca-*.pem")
		if err != nil {
			return "", done, err
		}
		done = func() { os.Remove(f.Name()) }
		_, err = f.WriteString(srv.CA)
		if err = errors.Join(err, f.Close()); err != nil {
			done()
			return "", func() {}, err
		}
		roots = f.Name()
	}
	return text + " sslmode=verify-full sslrootcert=" + quoted(roots), done, nil
}

// export writes a database in the custom format of pg_dump.
func (s *server) export(ctx context.Context, step change.Step) (engine.Report, error) {
	name, program := step.Args["name"], step.Args["program"]
	text, done, err := s.connection(name)
	if err != nil {
		return engine.Report{}, &engine.Error{Op: step.Title, Kind: engine.NotSent, Err: err}
	}
	defer done()
	cmd := engine.Command(ctx, program, []string{"PGPASSWORD=" + s.target.Password.Reveal()},
		"--format=custom", "--no-password", "--dbname="+text)
	days, _ := strconv.Atoi(step.Args["days"])
	x := change.Export{Database: name, Program: step.Args["by"], File: "dump", Days: days,
		Restore: "pg_restore --dbname=DATABASE FILE, into an empty database"}
	return engine.Dump(ctx, step, x, cmd, func(from io.Reader) (engine.Contents, error) {
		return readArchive(ctx, filepath.Join(filepath.Dir(program), "pg_restore"), from)
	}, func() *engine.Contents { return s.liveContents(ctx, name) })
}

// readArchive reads an archive to its end, as one that is put back would be, and counts.
func readArchive(ctx context.Context, program string, from io.Reader) (engine.Contents, error) {
	var out engine.Contents
	cmd := engine.Command(ctx, program, nil, "--data-only", "--file=-")
	cmd.Stdin = from
	var said strings.Builder
	cmd.Stderr = &said
	text, err := cmd.StdoutPipe()
	if err != nil {
		return out, err
	}
	if err := cmd.Start(); err != nil {
		return out, err
	}
	split := Engine{}.Script(text)
	var broken error
	for broken == nil {
		var st script.Statement
		if st, broken = split.Next(); broken != nil || st.Rows == nil {
			continue
		}
		out.Tables++
		var n int64
		n, broken = countLines(st.Rows)
		out.Rows += n
	}
	_, _ = io.Copy(io.Discard, text)
	if err := cmd.Wait(); err != nil {
		return out, fmt.Errorf("%w: %s", err, strings.TrimSpace(said.String()))
	}
	if broken != io.EOF {
		return out, broken
	}
	return out, nil
}

// countLines counts the lines of a text.
func countLines(from io.Reader) (n int64, err error) {
	part := make([]byte, 64<<10)
	for {
		read, err := from.Read(part)
		for _, c := range part[:read] {
			if c == '\n' {
				n++
			}
		}
		if err == io.EOF {
			return n, nil
		}
		if err != nil {
			return n, err
		}
	}
}

// liveTime bounds the counting of what a database holds, to hold an export against it.
const liveTime = 20 * time.Second

// liveContents counts tables and rows as a dump has them: without those of extensions. nil: it
// could not be counted in time.
func (s *server) liveContents(ctx context.Context, name string) *engine.Contents {
	ctx, cancel := context.WithTimeout(ctx, liveTime)
	defer cancel()
	c, err := s.dialDatabase(ctx, name)
	if err != nil {
		return nil
	}
	defer c.Close(context.WithoutCancel(ctx))
	tables, err := collect(ctx, c, "list its tables", pgx.RowToStructByPos[relation],
		`SELECT n.nspname::text, c.relname::text FROM pg_catalog.pg_class c
		JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind = 'r' AND c.relpersistence <> 't'
		AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend d
			WHERE d.classid = 'pg_catalog.pg_class'::regclass AND d.objid = c.oid AND d.deptype = 'e')
		ORDER BY 1, 2 LIMIT $1`, maxRelations)
	if err != nil {
		return nil
	}
	out := &engine.Contents{Tables: len(tables)}
	// What becomes a view of that name meanwhile is not read: it could run anybody's function.
	if err := exec(ctx, c.Conn, "SET restrict_nonsystem_relation_kind = 'view, foreign-table'"); err != nil {
		out.Rows = -1
		return out
	}
	for _, t := range tables {
		var n int64
		if err := c.QueryRow(ctx, "SELECT count(*) FROM ONLY "+quoteIdent(t.Schema)+"."+quoteIdent(t.Name)).
			Scan(&n); err != nil {
			return nil
		}
		out.Rows += n
	}
	return out
}
