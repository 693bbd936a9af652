package postgres

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
)

// pointer is something in one database that reaches another by its address: the
// server itself knows nothing of that, and lets either be dropped.
type pointer struct {
	kind, name           string // "foreign server", "routine"
	in                   string // the database that has it
	database, host, port string // where it points to; empty: not said
}

// String names it: foreign server fares_link of fares_prod.
func (p pointer) String() string {
	return p.kind + " " + naming.Show(p.name) + " of " + naming.Show(p.in)
}

// reach is how surely a pointer means a database.
type reach int

const (
	elsewhere reach = iota // another database, or another server
	perhaps                // a host that may be this server or not
	here
)

// means says how surely a pointer means a database of the server that has these
// hosts and ports.
func (p pointer) means(database string, hosts, ports []string) reach {
	switch {
	case p.database != database, p.port != "" && !slices.Contains(ports, p.port):
		return elsewhere
	case p.host == "", p.host[0] == '/', slices.Contains(hosts, p.host),
		slices.Contains([]string{"localhost", "127.0.0.1", "::1"}, p.host):
		return here
	}
	return perhaps
}

// pointersSQL finds what names a database together with the word dbname: options
// of foreign servers, whatever their wrapper, and the texts of routines.
const pointersSQL = `SELECT 'foreign server', s.srvname::text, o.database, coalesce(o.host, ''), coalesce(o.port, '') FROM pg_catalog.pg_foreign_server s,
		LATERAL (SELECT max(option_value) FILTER (WHERE option_name = 'dbname') AS database, max(option_value) FILTER (WHERE option_name IN ('host', 'hostaddr')) AS host,
			max(option_value) FILTER (WHERE option_name = 'port') AS port FROM pg_catalog.pg_options_to_table(s.srvoptions)) o WHERE o.database IS NOT NULL
	UNION ALL SELECT 'routine', n.nspname || '.' || p.proname, m[1], coalesce(substring(p.prosrc FROM '(?i)\mhost(?:addr)?\s*=\s*''{0,2}([^\s'']+)'), ''), coalesce(substring(p.prosrc FROM '(?i)\mport\s*=\s*''{0,2}(\d+)'), '')
		FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_namespace n ON n.oid = p.pronamespace, LATERAL regexp_matches(p.prosrc, '(?i)\mdbname\s*=\s*''{0,2}([^\s'']+)', 'g') m
		WHERE n.nspname <> 'information_schema' AND n.nspname NOT LIKE 'pg\_%' AND p.prosrc ILIKE '%dbname%'
	LIMIT 1000`

const (
	// pointersTime bounds looking into the other databases for one brief,
	// maxPointed how many of them are looked into.
	pointersTime = 6 * time.Second
	maxPointed   = 60
	// pointersAge is how old a look may be: a brief is made twice within moments.
	pointersAge = 30 * time.Second
)

// pointers keeps what was found in each database a moment ago.
type pointers struct {
	mu   sync.Mutex // guards kept
	kept map[string]pointed
}

type pointed struct {
	list []pointer
	at   time.Time
}

// get gives what was found in a database; fresh: a moment ago.
func (k *pointers) get(key string) (list []pointer, known, fresh bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	p, known := k.kept[key]
	return p.list, known, known && time.Since(p.at) < pointersAge
}

func (k *pointers) put(key string, list []pointer) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.kept == nil || len(k.kept) > 10*maxPointed {
		k.kept = map[string]pointed{}
	}
	k.kept[key] = pointed{list, time.Now()}
}

// readPointers looks into the other databases for what reaches d by its address.
// What cannot be looked into is said, and keeps nobody from going on.
//
// Long: a query for each way in which another server can point here.
func (s *server) readPointers(ctx context.Context, d catalog.Database, out *catalog.DropImpact) error {
	ctx, cancel := context.WithTimeout(ctx, pointersTime)
	defer cancel()
	type other struct {
		key  string
		name string
		may  bool
	}
	others, err := collect(ctx, s.pool, "look for other databases", func(row pgx.CollectableRow) (o other, err error) {
		err = row.Scan(&o.key, &o.name, &o.may)
		return o, err
	}, `SELECT oid::int8, datname::text, datallowconn AND datconnlimit <> $2 AND pg_catalog.has_database_privilege(oid, 'CONNECT') FROM pg_catalog.pg_database
		WHERE oid <> $1::oid AND NOT datistemplate ORDER BY datname LIMIT 10001`, oidOf(d.Key), invalidLimit)
	if err != nil {
		return err
	}
	hosts, ports, err := s.ownAddresses(ctx)
	if err != nil {
		return err
	}
	found, unseen := make([][]pointer, len(others)), make([]bool, len(others))
	var group errgroup.Group
	group.SetLimit(2)
	for i, o := range others {
		list, known, fresh := s.pointers.get(o.key)
		found[i] = list
		if fresh {
			continue
		}
		if unseen[i] = !o.may || i >= maxPointed; unseen[i] {
			continue
		}
		group.Go(func() error {
			list, err := s.pointersIn(ctx, o.name)
			if err != nil {
				unseen[i] = !known // else what was found before stands
				return nil
			}
			found[i] = list
			s.pointers.put(o.key, list)
			return nil
		})
	}
	_ = group.Wait()
	for _, p := range slices.Concat(found...) {
		switch p.means(d.Name, hosts, ports) {
		case here:
			out.Dependents = append(out.Dependents, p.String())
		case perhaps:
			out.PossibleDependents = append(out.PossibleDependents, p.String()+" (host "+naming.Show(p.host)+")")
		}
	}
	n := 0
	for _, missed := range unseen {
		if missed {
			n++
		}
	}
	if n > 0 {
		out.Unseen = append(out.Unseen,
			naming.Count(n, "other database")+" could not be searched for foreign servers that point to it.")
	}
	return nil
}

// ownAddresses are the hosts and ports by which the server is known to be reached.
func (s *server) ownAddresses(ctx context.Context) (hosts, ports []string, err error) {
	var address, port string
	err = s.pool.QueryRow(ctx, `SELECT coalesce(host(pg_catalog.inet_server_addr()), ''), current_setting('port')`).
		Scan(&address, &port)
	t := s.target.Server
	return []string{t.Host, address}, []string{port, fmt.Sprint(t.Port)}, wrap("read the server's address", err)
}

func (s *server) pointersIn(ctx context.Context, database string) ([]pointer, error) {
	s.counts.Looking.RLock()
	defer s.counts.Looking.RUnlock()
	conn, err := s.dialDatabase(ctx, database)
	if err != nil {
		return nil, err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	return collect(ctx, conn, "look for foreign servers", func(row pgx.CollectableRow) (pointer, error) {
		p := pointer{in: database}
		err := row.Scan(&p.kind, &p.name, &p.database, &p.host, &p.port)
		return p, err
	}, pointersSQL)
}
