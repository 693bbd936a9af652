package main

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"time"

	"golang.org/x/term"

	"example.com/genarch/api"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/policy"
	"example.com/genarch/engine/mariadb/marialocal"
	"example.com/genarch/localdb"
	"example.com/genarch/store"
)

// openStore opens the records: those of the DSN, or in the private MariaDB, which
// it starts and keeps running until stop.
func (s service) openStore(ctx context.Context) (records *store.Store, stop func(), err error) {
	cfg, stopServer, err := s.startStore(ctx)
	if err != nil {
		return nil, nil, err
	}
	if records, err = store.Open(ctx, cfg); err != nil {
		stopServer()
		return nil, nil, err
	}
	if text, err := records.Sealable(ctx); err == nil && text != "" {
		s.log.Warn("the journal is less safe than it could be", "why", text)
	}
	return records, func() {
		records.Close()
		stopServer()
	}, nil
}

// startStore says where the records are. Without a DSN it starts the private
// MariaDB, with a login of its own for daily work.
func (s service) startStore(ctx context.Context) (where store.Config, stop func(), err error) {
	where = store.Config{DSN: s.dsn, AdminDSN: s.adminDSN, KeyFile: s.keyFile}
	if where.KeyFile == "" {
		where.KeyFile = filepath.Join(s.data, keyFileName)
	}
	if s.dsn != "" {
		return where, func() {}, nil
	}
	cfg := localdb.Config{Dir: filepath.Join(s.data, "records")}
	begun := time.Now()
	srv, err := marialocal.Start(ctx, cfg)
	if err != nil {
		return where, nil, fmt.Errorf("the private MariaDB for the records: %w", err)
	}
	if where.DSN, err = marialocal.Login(ctx, srv, "genarch_daily", "genarch"); err != nil {
		_ = srv.Stop()
		return where, nil, fmt.Errorf("the private MariaDB for the records: %w", err)
	}
	where.AdminDSN = srv.DSN("genarch")
	s.log.Info("the private MariaDB for the records runs", "address", srv.Address(), "version", srv.Version, "took",
		time.Since(begun).Round(time.Millisecond))
	ending, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		s.keepRunning(srv, cfg, ending)
	}()
	return where, func() {
		close(ending)
		<-ended
	}, nil
}

// keepRunning starts the private MariaDB again should it crash, on the same
// port, and stops it in the end.
func (s service) keepRunning(srv *localdb.Server, cfg localdb.Config, ending <-chan struct{}) {
	for {
		select {
		case <-ending:
			if err := srv.Stop(); err != nil {
				s.log.Error("the private MariaDB did not stop in order", "error", err)
			}
			return
		case <-srv.Done():
		}
		s.log.Error("the private MariaDB has ended by itself; starting it again")
		srv.Kill() // gives its folder free
		for {
			again, err := marialocal.Start(context.Background(), cfg)
			if err == nil && again.Port == srv.Port {
				srv = again
				break
			}
			if err == nil {
				err = fmt.Errorf("its port %d is taken by somebody else", srv.Port)
				_ = again.Stop()
			}
			s.log.Error("the private MariaDB cannot be started", "error", err)
			select {
			case <-ending:
				return
			case <-time.After(2 * time.Second):
			}
		}
	}
}

// firstOperator makes the first operator when there is none, or gives the one that
// is to be reset a new password and every permission.
func (s service) firstOperator(ctx context.Context, records *store.Store) error {
	name := s.resetOperator
	if name == "" {
		list, err := records.Operators(ctx)
		if err != nil || len(list) > 0 {
			return err
		}
		name = s.firstName
	}
	if err := policy.CheckOperatorName(name); err != nil {
		return err
	}
	password, shown, err := s.newPassword(name)
	if err != nil {
		return err
	}
	hash, err := api.HashPassword(password, name)
	if err != nil {
		return fmt.Errorf("the password of %s: %w", name, err)
	}
	debug.FreeOSMemory() // hashing took 19 MiB that are not needed again soon
	if s.resetOperator != "" {
		s.log.Warn("an operator gets a new password and every permission, on this machine's word", "operator", name)
		err = records.ResetOperator(ctx, name, hash,
			journal.Entry{Operator: policy.Service, Action: "operator.reset", Subject: name})
	} else {
		err = records.AddOperator(ctx, policy.Operator{Name: name, Permissions: policy.Permissions}, hash,
			journal.Entry{Operator: policy.Service, Action: "operator.first", Subject: name})
	}
	if err == nil && shown {
		s.announce(name, password)
	}
	return err
}

// newPassword takes a password from a file, the environment or a prompt, or makes
// one that is to be shown.
func (s service) newPassword(name string) (password string, shown bool, err error) {
	password = s.firstPassword
	switch {
	case s.firstPasswordFile != "":
		if password, err = readSecret(s.firstPasswordFile, "the file with the operator's password"); err != nil {
			return "", false, err
		}
	case password == "" && s.announceGenerated == nil && term.IsTerminal(int(os.Stdin.Fd())):
		if password, err = askPassword(name); err != nil {
			return "", false, err
		}
	}
	if password == "" {
		password, shown = strings.ToLower(rand.Text()), true
	}
	return password, shown, nil
}

// announce shows a generated password, once; it goes to the terminal and not
// into the log.
func (s service) announce(name, password string) {
	if s.announceGenerated != nil {
		s.announceGenerated(name, password)
		return
	}
	fmt.Fprintf(os.Stderr, "\n  The operator %s has the password\n\n      %s\n\n  It is shown this once. Sign in, and change it with: genarch operator password\n\n", name, password)
}

// askPassword asks twice; an empty answer has one generated.
func askPassword(name string) (string, error) {
	fmt.Fprintf(os.Stderr, "Password for the operator %s (empty: one is generated): ", name)
	first, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprintln(os.Stderr)
	if err != nil || len(first) == 0 {
		return "", err
	}
	fmt.Fprint(os.Stderr, "Again: ")
	second, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprintln(os.Stderr)
	if err != nil {
		return "", err
	}
	if string(first) != string(second) {
		return "", fmt.Errorf("the two passwords are not the same; start again")
	}
	return string(first), nil
}

const (
	// checkpointEvery is how often the end of the journal is noted beside the
	// records, logEvery how often it goes into the log.
	checkpointEvery = time.Minute
	logEvery        = time.Hour
)

// keepCheckpoints notes the end of the journal outside the store: in a file of the
// data folder, which every later check compares with, and in the log, from where
// it may reach a place that nobody here can alter. stop notes it a last time.
func (s service) keepCheckpoints(ctx context.Context, records *store.Store) (stop func()) {
	file := filepath.Join(s.data, "journal.checkpoint")
	if text, err := os.ReadFile(file); err == nil {
		if err := records.Expect(strings.TrimSpace(string(text))); err != nil {
			s.log.Warn("the checkpoint of the journal does not fit this store and key; if the store was replaced on purpose, remove the file", "file", file, "error", err)
		}
	}
	logged, last := time.Time{}, uint64(0)
	note := func(ctx context.Context, always bool) {
		ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
		defer cancel()
		c, err := records.Checkpoint(ctx)
		if err != nil {
			s.log.Warn("the end of the journal could not be noted", "error", err)
			return
		}
		if c.Seq != last {
			err := os.WriteFile(file+".new", []byte(c.String()+"\n"), 0o600)
			if err == nil {
				err = os.Rename(file+".new", file)
			}
			if err != nil {
				s.log.Warn("the end of the journal could not be noted", "file", file, "error", err)
			}
			last = c.Seq
		}
		if always || time.Since(logged) >= logEvery {
			logged = time.Now()
			s.log.Info("journal checkpoint", "checkpoint", c.String())
		}
	}
	note(ctx, true)
	ctx, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		tick := time.NewTicker(checkpointEvery)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
				note(ctx, false)
			}
		}
	}()
	return func() {
		cancel()
		<-done
		note(context.WithoutCancel(ctx), true)
	}
}
