package main

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/urfave/cli/v3"

	"example.com/genarch/api"
	"example.com/genarch/console"
	"example.com/genarch/engine"
	"example.com/genarch/events"
	"example.com/genarch/fleet"
	"example.com/genarch/keeping"
	"example.com/genarch/runner"
	"example.com/genarch/spool"
	"example.com/genarch/store"
	"example.com/genarch/watch"
)

// knownSettings are the settings that the file may hold.
var knownSettings = map[string]bool{"listen": true, "data": true, "store-dsn": true, "store-dsn-file": true,
	"store-admin-dsn-file": true, "key-file": true, "tls-cert": true, "tls-key": true,
	"log-format": true, "log-level": true, "first-operator": true, "public-url": true, "trusted-proxy": true,
	"first-password-file": true, "max-script": true}

// service is how the service is to run.
type service struct {
	listen, data    string
	dsn, adminDSN   string
	keyFile         string
	tlsCert, tlsKey string
	// publicURL is the address that people use, trustedProxies the networks whose
	// word on where a call comes from is taken.
	publicURL      string
	trustedProxies []string
	// maxScript is how many bytes a script may have by which a database is filled.
	maxScript int64
	// resetOperator is who gets a new password and every permission; empty: nobody.
	resetOperator string
	// The first operator: its name, and where its password comes from.
	firstName, firstPasswordFile, firstPassword string
	// announceGenerated takes a generated password; nil shows it on the terminal.
	announceGenerated func(name, password string)
	log               *slog.Logger
	ready             func(address string) // called when calls are taken
	opened            func(*store.Store)   // called with the records; nil: nobody needs them
}

// serveCommand: Long: a list of options.
func serveCommand() *cli.Command {
	text := func(name, value, usage string) *cli.StringFlag {
		return &cli.StringFlag{Name: name, Value: value, Usage: usage, Sources: setting(name)}
	}
	return &cli.Command{
		Name: "serve", Usage: "run the service and its console",
		Description: "Without any setting it starts a private MariaDB for its records. Every option can also be set in the environment (GENARCH_LISTEN, …) or in the file that GENARCH_SETTINGS names.",
		Flags: []cli.Flag{
			text("listen", "127.0.0.1:7437", "address and port to listen on; beyond loopback it needs --tls-cert"),
			text("data", dataFolder("genarch"), "folder for the key file and the private MariaDB"),
			&cli.StringFlag{Name: "store-dsn-file",
				Usage:   "file with the DSN of a MariaDB for the records (or GENARCH_STORE_DSN)",
				Sources: setting("store-dsn-file"), DefaultText: "a private MariaDB"},
			text(
				"store-admin-dsn-file",
				"",
				"file with the DSN of another login to the same database, which makes its tables; the one above then needs no rights to alter them",
			),
			text(
				"key-file",
				"",
				"key that seals the servers' secrets; made on the first start (default: key.json in the data folder)",
			),
			text("tls-cert", "", "certificate chain (PEM)"), text("tls-key", "", "its key (PEM)"),
			text(
				"public-url",
				"",
				"the address by which people reach the service, such as https://genarch.ossavik.example, when a proxy is before it",
			),
			&cli.StringSliceFlag{Name: "trusted-proxy",
				Usage:   "address or network of a proxy whose X-Forwarded-For is believed",
				Sources: setting("trusted-proxy")},
			&cli.StringFlag{Name: "reset-operator",
				Usage: "the way back when nobody can sign in any more: this operator gets a new password (from --first-password-file, a prompt, or generated) and every permission"},
			&cli.StringFlag{Name: "max-script", Value: "2 GB", Sources: setting("max-script"),
				Usage: "how large a script may be by which a database is filled; it lies in the data folder, " +
					"encrypted, while a change asks for it"},
			text("log-format", "text", "text or json"), text("log-level", "info", "debug, info, warn or error"),
			text("first-operator", "keeper", "name of the first operator, made on the first start"),
			text(
				"first-password-file",
				"",
				"file with the first operator's password (or GENARCH_FIRST_PASSWORD; else asked for, or generated and shown once)",
			),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := settings().err; err != nil {
				return err
			}
			log, err := newLog(c.String("log-format"), c.String("log-level"))
			if err != nil {
				return err
			}
			s := service{listen: c.String("listen"), data: c.String("data"), keyFile: c.String("key-file"),
				tlsCert: c.String("tls-cert"), tlsKey: c.String("tls-key"),
				publicURL: c.String("public-url"), trustedProxies: c.StringSlice("trusted-proxy"),
				resetOperator: c.String("reset-operator"),
				firstName:     c.String("first-operator"), firstPasswordFile: c.String("first-password-file"),
				firstPassword: os.Getenv("GENARCH_FIRST_PASSWORD"),
				log:           log, ready: func(address string) { log.Info("ready", "address", address) }}
			if s.maxScript, err = engine.ParseSize(c.String("max-script")); err != nil {
				return fmt.Errorf("--max-script: %w", err)
			}
			if s.dsn, err = storeDSN(c.String("store-dsn-file")); err != nil {
				return err
			}
			if file := c.String("store-admin-dsn-file"); file != "" {
				if s.adminDSN, err = readSecret(file, "the file with the store's other DSN"); err != nil {
					return err
				}
			}
			return s.run(ctx)
		},
	}
}

// storeDSN reads the DSN, which holds a password, from a file, the environment
// or the file of settings: never from an argument.
func storeDSN(file string) (string, error) {
	if file != "" {
		return readSecret(file, "the file with the store's DSN")
	}
	if dsn := os.Getenv("GENARCH_STORE_DSN"); dsn != "" {
		return dsn, nil
	}
	return settings().values["store-dsn"], nil
}

// readSecret reads a file that only its owner may read.
func readSecret(file, what string) (string, error) {
	if err := private(file, what); err != nil {
		return "", err
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return "", fmt.Errorf("%s: %w", what, err)
	}
	return strings.TrimRight(string(text), "\r\n"), nil
}

// private refuses a file with a secret that others than its owner can read.
func private(file, what string) error {
	info, err := os.Stat(file)
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	if info.Mode().IsRegular() && info.Mode().Perm()&0o077 != 0 {
		return fmt.Errorf("%s, %s, can be read by others (mode %o): chmod 600 %s", what, file, info.Mode().Perm(), file)
	}
	return nil
}

func newLog(format, level string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, fmt.Errorf("the log level is one of debug, info, warn, error, not %q", level)
	}
	opts := &slog.HandlerOptions{Level: l}
	switch format {
	case "text":
		return slog.New(slog.NewTextHandler(os.Stderr, opts)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(os.Stderr, opts)), nil
	}
	return nil, fmt.Errorf("the log format is text or json, not %q", format)
}

// stopTime bounds an orderly stop: steps in hand get this long.
const stopTime = 30 * time.Second

// gcPercent is how far the heap may grow before it is cleaned up, in percent, where
// GOGC says nothing else. The service keeps a few MiB, and a list of thousands
// is built up and thrown away at once: with Go's own 100 it would clean up in the
// middle of each. Above memoryLimit bytes it is cleaned up as often as it takes to stay
// there, where GOMEMLIMIT says nothing else.
const (
	gcPercent   = 400
	memoryLimit = 512 << 20
)

// run runs the service until ctx ends, and then stops it in order: calls are
// no longer taken, steps in hand end, access to the servers and the store closes,
// the private MariaDB stops.
//
// Long: what is started is stopped in the opposite order, in one place.
func (s service) run(ctx context.Context) error {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(gcPercent)
	}
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memoryLimit)
	}
	listener, err := s.open()
	if err != nil {
		return err
	}
	defer listener.Close()
	records, stopStore, err := s.openStore(ctx)
	if err != nil {
		return err
	}
	defer stopStore()
	if s.opened != nil {
		s.opened(records)
	}
	if err := os.MkdirAll(s.data, 0o700); err != nil {
		return err
	}
	kept := s.keepCheckpoints(ctx, records)
	defer kept()
	if err := s.firstOperator(ctx, records); err != nil {
		return err
	}
	public, err := s.public()
	if err != nil {
		return err
	}
	hub := &events.Hub{}
	servers := fleet.New(records, engines(records)...)
	defer servers.Close()
	samples := watch.Start(servers, records, s.log)
	defer samples.Stop()
	files, err := spool.Open(filepath.Join(s.data, "files"), records)
	if err != nil {
		return err
	}
	scripts := &spool.Scripts{Folder: files, Fleet: servers, Changes: records, Log: s.log, Limit: s.maxScript}
	exports := &spool.Exports{Folder: files, Log: s.log}
	changes := runner.New(runner.Config{Store: records, Fleet: servers, Events: hub, Log: s.log, Watch: samples,
		Scripts: scripts, Exports: exports})
	tidying, stopTidying := context.WithCancel(ctx)
	defer stopTidying()
	go scripts.Run(tidying)
	go exports.Run(tidying)
	go keeping.Keeper{Fleet: servers, Changes: changes, Log: s.log}.Run(tidying)
	page, err := console.Handler()
	if err != nil {
		s.log.Warn(err.Error())
	}
	handler := api.New(api.Config{Records: records, Fleet: servers, Changes: changes, Watch: samples, Events: hub,
		Scripts: scripts, Exports: exports, Log: s.log, Version: version, Console: page,
		TLS: s.tlsCert != "", PublicURL: public, TrustedProxies: s.trustedProxies,
		Collectors: s.collectors(records, hub)})
	web := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute,
		WriteTimeout: 3 * time.Minute,
		IdleTimeout:  2 * time.Minute, MaxHeaderBytes: 64 << 10,
		ErrorLog: slog.NewLogLogger(s.log.Handler(), slog.LevelDebug)}
	failed := make(chan error, 1)
	go func() { failed <- s.serve(web, listener) }()
	s.ready(s.address(listener))

	select {
	case err = <-failed:
	case <-ctx.Done():
		s.log.Info("stopping")
	}
	patience, cancel := context.WithTimeout(context.WithoutCancel(ctx), stopTime)
	defer cancel()
	hub.Close() // ends the event streams, which would never end by themselves
	if stopErr := web.Shutdown(patience); err == nil {
		err = stopErr
	}
	changes.Shutdown(patience)
	return err
}

// open listens. Beyond loopback it insists on TLS: passwords and tokens travel.
func (s service) open() (net.Listener, error) {
	host, _, err := net.SplitHostPort(s.listen)
	if err != nil {
		return nil, fmt.Errorf("the address to listen on is HOST:PORT, not %q", s.listen)
	}
	ip := net.ParseIP(host)
	if local := host == "localhost" || ip != nil && ip.IsLoopback(); !local && s.tlsCert == "" {
		return nil, fmt.Errorf(
			"listening on %s, beyond this machine, needs TLS: give --tls-cert and --tls-key, or listen on 127.0.0.1 behind a proxy that has it",
			s.listen,
		)
	}
	if (s.tlsCert == "") != (s.tlsKey == "") {
		return nil, errors.New("--tls-cert and --tls-key go together")
	}
	if s.tlsKey != "" {
		if err := private(s.tlsKey, "the key of the certificate"); err != nil {
			return nil, err
		}
	}
	l, err := net.Listen("tcp", s.listen)
	if err != nil {
		return nil, fmt.Errorf("cannot listen on %s: %w", s.listen, err)
	}
	return l, nil
}

func (s service) serve(web *http.Server, l net.Listener) error {
	var err error
	if s.tlsCert != "" {
		pair := &certificate{cert: s.tlsCert, key: s.tlsKey, log: s.log}
		if _, err := pair.get(nil); err != nil {
			return fmt.Errorf("the certificate: %w", err)
		}
		web.TLSConfig = &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: pair.get}
		err = web.ServeTLS(l, "", "")
	} else {
		err = web.Serve(l)
	}
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// public reads the address that people use.
func (s service) public() (*url.URL, error) {
	if s.publicURL == "" {
		return nil, nil
	}
	u, err := url.Parse(s.publicURL)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
		return nil, fmt.Errorf("the public address is http:// or https:// and a host, not %q", s.publicURL)
	}
	return u, nil
}

// certificate is read again when its file was written anew: a renewal needs no
// restart.
type certificate struct {
	cert, key string
	log       *slog.Logger

	mu      sync.Mutex // guards pair, written and looked
	pair    *tls.Certificate
	written time.Time
	looked  time.Time
}

func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.pair != nil && time.Since(c.looked) < time.Minute {
		return c.pair, nil
	}
	c.looked = time.Now()
	info, err := os.Stat(c.cert)
	if err == nil && (c.pair == nil || !info.ModTime().Equal(c.written)) {
		var pair tls.Certificate
		if pair, err = tls.LoadX509KeyPair(c.cert, c.key); err == nil {
			c.pair, c.written = &pair, info.ModTime()
		}
	}
	if err != nil && c.pair != nil {
		c.log.Error("the certificate cannot be read anew; the old one is used", "error", err)
		return c.pair, nil
	}
	return c.pair, err
}

func (s service) address(l net.Listener) string {
	if s.tlsCert != "" {
		return "https://" + l.Addr().String()
	}
	return "http://" + l.Addr().String()
}

func (s service) collectors(records *store.Store, hub *events.Hub) []prometheus.Collector {
	return []prometheus.Collector{
		collectors.NewDBStatsCollector(records.Pool(), "records"),
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "genarch_event_subscribers",
			Help: "Streams of events that are open."}, func() float64 { return float64(hub.Subscribers()) }),
	}
}
