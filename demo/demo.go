// Package demo runs the Ossavik Line, a made-up ferry company whose teams share
// six database servers: real servers on loopback (two are stand-ins), with tables, accounts and
// sessions in them.
package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"

	"golang.org/x/sync/errgroup"

	"example.com/genarch/api/wire"
	"example.com/genarch/client"
	"example.com/genarch/engine/mariadb/marialocal"
	"example.com/genarch/engine/postgres/pglocal"
	"example.com/genarch/localdb"
)

// demoServer is one of the company's servers.
type demoServer struct {
	name, engine, environment, suffix string
	labels                            map[string]string
}

var demoServers = []demoServer{
	{"harbour", "postgresql", "production", "_prod", map[string]string{"site": "Ossavik", "team": "passenger"}},
	{"slipway", "postgresql", "staging", "_staging", map[string]string{"site": "Ossavik", "team": "passenger"}},
	{"quay", "mariadb", "production", "_prod", map[string]string{"site": "Ossavik", "team": "freight"}},
	{"drydock", "mariadb", "development", "_dev", map[string]string{"site": "Tarnes", "team": "all"}},
	{"jetty", "mysql", "production", "_prod", map[string]string{"site": "Ossavik", "team": "web"}},
	{"customs", "sqlserver", "production", "_prod", map[string]string{"site": "Tarnes", "team": "freight"}},
}

// options are what the servers are started with: quay shows who holds locks and
// what clients call themselves, drydock is as MariaDB comes.
var options = map[string][]string{
	"harbour": {"max_prepared_transactions=5"},
	"quay":    {"plugin-load-add=metadata_lock_info", "performance-schema=ON", "event-scheduler=ON"},
	"customs": {"machine=customs"},
}

// Demo is the running company.
type Demo struct {
	servers map[string]*localdb.Server
	traffic sync.WaitGroup
	stop    context.CancelFunc
}

// marker is a file by which a demo's folder is known, so that a reset never
// removes anything else.
const marker = "this-is-a-genarch-demo"

// Prepare makes the demo's folder. The account of PostgreSQL must get through
// to it, so it is not closed to others; what is in it is.
func Prepare(dir string) error {
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return err
	}
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if _, noMarker := os.Stat(filepath.Join(dir, marker)); noMarker != nil && len(entries) > 0 {
		return fmt.Errorf("%s holds something else than a demo; choose another folder with --data", dir)
	}
	if err := os.MkdirAll(dir, 0o711); err != nil {
		return err
	}
	if err := os.Chmod(dir, 0o711); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, marker), nil, 0o600); err != nil {
		return err
	}
	return writeScripts(dir)
}

// Reset removes a demo's folder and nothing that is not one.
func Reset(dir string) error {
	if _, err := os.Stat(dir); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if _, err := os.Stat(filepath.Join(dir, marker)); err != nil {
		return fmt.Errorf("%s is no demo's folder, so it was left alone", dir)
	}
	return os.RemoveAll(dir)
}

// Start starts the servers side by side and fills those that are empty.
func Start(ctx context.Context, dir string) (*Demo, error) {
	l := &Demo{servers: map[string]*localdb.Server{}}
	var mu sync.Mutex
	var group errgroup.Group
	for _, b := range demoServers {
		group.Go(func() error {
			start := map[string]func(context.Context, localdb.Config) (*localdb.Server, error){
				"postgresql": pglocal.Start, "mariadb": marialocal.Start, "mysql": startMySQL,
				"sqlserver": startSQLServer}[b.engine]
			s, err := start(ctx, localdb.Config{Dir: filepath.Join(dir, b.name), Options: options[b.name]})
			if err != nil {
				return fmt.Errorf("%s: %w", b.name, err)
			}
			mu.Lock()
			l.servers[b.name] = s
			mu.Unlock()
			if err := seed(ctx, b, s); err != nil {
				return fmt.Errorf("%s: demo data: %w", b.name, err)
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		l.Stop()
		return nil, err
	}
	traffic, stop := context.WithCancel(context.WithoutCancel(ctx))
	l.stop = stop
	l.startTraffic(traffic)
	return l, nil
}

// Stop ends the traffic and the servers.
func (l *Demo) Stop() {
	if l.stop != nil {
		l.stop()
	}
	l.traffic.Wait()
	var all sync.WaitGroup
	for _, s := range l.servers {
		all.Go(func() { _ = s.Stop() })
	}
	all.Wait()
}

// Register makes Genarch know the servers, at the ports that they have
// now, and marks those that have no identity of their own.
func (l *Demo) Register(ctx context.Context, api *client.Client) error {
	known, err := api.Servers(ctx, false)
	if err != nil {
		return err
	}
	for _, b := range demoServers {
		s := l.servers[b.name]
		registered := false
		for _, k := range known {
			if k.Name != b.name {
				continue
			}
			registered = true
			if k.Port != s.Port {
				if err := l.moved(ctx, api, k, s); err != nil {
					return err
				}
			}
		}
		if registered {
			continue
		}
		in := wire.ServerInput{Name: b.name, Engine: b.engine, Host: s.Host, Port: s.Port, Admin: s.Admin,
			Secret:      s.Password.Reveal(),
			Environment: b.environment, Labels: b.labels, TLS: "off", NameRule: &wire.NameRule{Suffix: b.suffix}}
		if s.CA != "" {
			in.TLS, in.CA = "verified", s.CA
		}
		if _, err := api.AddServer(ctx, in); err != nil {
			return fmt.Errorf("register %s: %w", b.name, err)
		}
		if b.engine == "mariadb" {
			if err := carry(ctx, api, wire.Intent{Kind: wire.KindMarkServer, Server: b.name}); err != nil {
				return fmt.Errorf("mark %s: %w", b.name, err)
			}
		}
		if x, any := asideDatabases[b.name]; any {
			in := wire.Intent{Kind: wire.KindSetAside, Server: b.name,
				Database: &wire.DatabaseSpec{Name: x.name + b.suffix, KeepDays: x.days}}
			if err := carry(ctx, api, in); err != nil {
				return fmt.Errorf("set %s aside: %w", x.name+b.suffix, err)
			}
		}
	}
	return putBlueprints(ctx, api)
}

// moved follows a demo server to another port: the old one was taken.
func (l *Demo) moved(ctx context.Context, api *client.Client, k wire.Server, s *localdb.Server) error {
	secret := s.Password.Reveal()
	_, err := api.EditServer(ctx, k.Name, wire.ServerPatch{Version: k.Version, Port: &s.Port, Secret: &secret})
	return err
}

// carry has a change made and run, unless something stands in its way.
func carry(ctx context.Context, api *client.Client, in wire.Intent) error {
	c, err := api.Ask(ctx, in, "")
	if err != nil || c.Brief.Stopped {
		return err
	}
	c, err = api.Run(ctx, c.ID, wire.Run{Fingerprint: c.Brief.Fingerprint, Confirm: c.Brief.Confirm, Wait: 30})
	if err == nil && c.State != wire.StateDone {
		err = errors.New(c.Result)
	}
	return err
}
