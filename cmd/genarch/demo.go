package main

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
	"example.com/genarch/client"
	"example.com/genarch/core/history"
	"example.com/genarch/core/script"
	"example.com/genarch/demo"
	"example.com/genarch/store"
)

// demoOperator is who signs in to the demo.
const demoOperator = "dispatcher"

func demoCommand() *cli.Command {
	return &cli.Command{
		Name: "demo", Usage: "run Genarch with six servers of a made-up ferry company, all on this machine",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "data", Value: dataFolder("genarch-demo"), Usage: "folder of the demo",
				Sources: cli.EnvVars("GENARCH_DEMO_DATA")},
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:7437",
				Usage:   "address to listen on; another port is taken if this one is not free",
				Sources: cli.EnvVars("GENARCH_DEMO_LISTEN")},
			&cli.BoolFlag{Name: "reset", Usage: "throw away the data of earlier runs first"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			d := demoRun{dir: c.String("data"), listen: c.String("listen"), out: c.Root().Writer}
			return d.run(ctx, c.Bool("reset"))
		},
	}
}

type demoRun struct {
	dir, listen string
	out         io.Writer
}

// run starts servers and service, says where to look, and waits for the end.
func (d demoRun) run(ctx context.Context, reset bool) error {
	begun := time.Now()
	if reset {
		if err := demo.Reset(d.dir); err != nil {
			return err
		}
	}
	if err := demo.Prepare(d.dir); err != nil {
		return err
	}
	fmt.Fprintf(d.out, "Starting the Ossavik Line's six database servers and Genarch, in %s …\n", d.dir)
	line, err := demo.Start(ctx, d.dir)
	if err != nil {
		return err
	}
	defer line.Stop()
	password, err := noted(filepath.Join(d.dir, "password"), func() string { return strings.ToLower(rand.Text()) })
	if err != nil {
		return err
	}
	logFile, err := os.OpenFile(filepath.Join(d.dir, "genarch.log"), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer logFile.Close()
	ready := make(chan string, 1)
	var records *store.Store // set before the service is ready
	s := service{listen: freeListen(d.listen), data: filepath.Join(d.dir, "genarch"), firstName: demoOperator,
		firstPassword: password, maxScript: script.DefaultLimit,
		log: slog.New(slog.NewTextHandler(logFile, nil)), ready: func(address string) { ready <- address },
		opened: func(r *store.Store) { records = r }}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ended := make(chan error, 1)
	go func() { ended <- s.run(ctx) }()
	select {
	case err := <-ended:
		return err
	case address := <-ready:
		if err := d.welcome(ctx, line, records, address, password, begun); err != nil && ctx.Err() == nil {
			cancel()
			return errors.Join(err, <-ended)
		}
	}
	err = <-ended
	fmt.Fprintln(d.out, "\nStopping; the data stays for the next start.")
	return err
}

// welcome registers the servers, gives them a past and prints how to go on.
func (d demoRun) welcome(ctx context.Context, line *demo.Demo, records *store.Store, address, password string,
	begun time.Time) error {
	anonymous, err := client.New(address, "")
	if err != nil {
		return err
	}
	tokenFile := filepath.Join(d.dir, "token")
	api, err := d.signIn(ctx, anonymous, address, tokenFile, password)
	if err != nil {
		return err
	}
	if err := line.Register(ctx, api); err != nil {
		return err
	}
	if err := givePast(ctx, api, records); err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	env := filepath.Join(d.dir, "env")
	text := fmt.Sprintf("export GENARCH_URL=%s\nexport GENARCH_TOKEN_FILE=%s\nexport PATH=%s:\"$PATH\"\n", address,
		tokenFile, filepath.Dir(self))
	if err := os.WriteFile(env, []byte(text), 0o600); err != nil {
		return err
	}
	fmt.Fprintf(d.out, `
Genarch runs (started in %.1f s).

  Console    %s
  Sign in    %s, password %s
  Shell      . %s     (address and token for the CLI; in another terminal)

Things to try there:

  genarch server list
  genarch privilege matrix quay
  genarch session list harbour --tree
  genarch database create harbour/lounges_prod --for-team lounges
  genarch database fill harbour/tickets_prod %s
  genarch database drop harbour/tickets_prod

Ctrl-C stops everything; make demo starts it again with its data, make demo-reset afresh.
`, time.Since(begun).Seconds(), address, demoOperator, password, env,
		filepath.Join(d.dir, "scripts", "gangways.sql"))
	return nil
}

// signIn signs in anew at each start: registering a server asks for a password that
// was given a short while ago. The token of the start before is ended.
func (d demoRun) signIn(ctx context.Context, anonymous *client.Client,
	address, tokenFile, password string) (*client.Client, error) {
	session, err := anonymous.SignIn(ctx, wire.SignIn{Name: demoOperator, Password: password, Token: "demo shell"})
	if err != nil {
		return nil, err
	}
	api, err := client.New(address, session.Token)
	if err != nil {
		return nil, err
	}
	tokens, err := api.Tokens(ctx)
	if err != nil {
		return nil, err
	}
	for i, t := range tokens {
		if i > 0 && t.Title == "demo shell" && t.Revoked == nil { // the newest is this one
			if err := api.RevokeToken(ctx, t.ID); err != nil {
				return nil, err
			}
		}
	}
	return api, os.WriteFile(tokenFile, []byte(session.Token+"\n"), 0o600)
}

// noted reads a secret that an earlier start noted, or makes and notes one.
func noted(file string, make func() string) (string, error) {
	if text, err := os.ReadFile(file); err == nil {
		return strings.TrimSpace(string(text)), nil
	}
	made := make()
	return made, os.WriteFile(file, []byte(made+"\n"), 0o600)
}

// freeListen is the address asked for if it is free, else another port.
func freeListen(address string) string {
	l, err := net.Listen("tcp", address)
	if err == nil {
		l.Close()
		return address
	}
	host, _, _ := net.SplitHostPort(address)
	return net.JoinHostPort(host, "0")
}

// givePast makes up a history for the servers that have none yet: plots of a demo that has
// just begun would be empty.
func givePast(ctx context.Context, api *client.Client, records *store.Store) error {
	servers, err := records.Servers(ctx)
	if err != nil {
		return err
	}
	now := time.Now()
	for _, s := range servers {
		kept, err := records.History(ctx, s.ID, "", now.Add(-history.Kept))
		if err != nil {
			return err
		}
		if len(kept) > 10 {
			continue
		}
		list, err := api.Databases(ctx, s.Name, client.DatabaseQuery{System: true, Limit: 1000})
		if err != nil {
			return err
		}
		present := map[string]history.Point{}
		for _, d := range list.Databases {
			p := history.Point{Size: d.Size}
			if d.Sessions != nil {
				p.Sessions = *d.Sessions
			}
			present[d.Name] = p
		}
		if err := records.SaveHistory(ctx, s.ID, demo.Past(s.Name, present, now)); err != nil {
			return err
		}
	}
	return nil
}
