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
	"example.com/genarch/localdb"
	"example.com/genarch/store"
)

// startStore gives the DSN of the records. Without one it starts the private
// MariaDB and keeps it running until stop.
func (s service) startStore(ctx context.Context) (dsn string, stop func(), err error) {
	if s.dsn != "" {
		return s.dsn, func() {}, nil
	}
	cfg := localdb.Config{Dir: filepath.Join(s.data, "records")}
	begun := time.Now()
	srv, err := localdb.StartMariaDB(ctx, cfg)
	if err != nil {
		return "", nil, fmt.Errorf("the private MariaDB for the records: %w", err)
	}
	s.log.Info("the private MariaDB for the records runs", "address", srv.Address(), "version", srv.Version, "took", time.Since(begun).Round(time.Millisecond))
	ending, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		s.keepRunning(srv, cfg, ending)
	}()
	return srv.DSN("genarch"), func() {
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
			again, err := localdb.StartMariaDB(context.Background(), cfg)
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

// firstOperator makes the first operator when there is none: with the password
// from a file, the environment or a prompt, or generated and shown once.
func (s service) firstOperator(ctx context.Context, records *store.Store) error {
	list, err := records.Operators(ctx)
	if err != nil || len(list) > 0 {
		return err
	}
	if err := policy.CheckOperatorName(s.firstName); err != nil {
		return err
	}
	password, shown := s.firstPassword, false
	switch {
	case s.firstPasswordFile != "":
		text, err := os.ReadFile(s.firstPasswordFile)
		if err != nil {
			return fmt.Errorf("the first operator's password: %w", err)
		}
		password = strings.TrimRight(string(text), "\r\n")
	case password == "" && s.announceGenerated == nil && term.IsTerminal(int(os.Stdin.Fd())):
		if password, err = askPassword(s.firstName); err != nil {
			return err
		}
	}
	if password == "" {
		password, shown = strings.ToLower(rand.Text()), true
	}
	hash, err := api.HashPassword(password, s.firstName)
	if err != nil {
		return fmt.Errorf("the first operator's password: %w", err)
	}
	debug.FreeOSMemory() // hashing took 19 MiB that are not needed again soon
	o := policy.Operator{Name: s.firstName, Remits: policy.Remits}
	if err := records.AddOperator(ctx, o, hash, journal.Entry{Operator: "genarch", Action: "operator.first", Subject: o.Name}); err != nil {
		return err
	}
	if shown {
		s.announce(o.Name, password)
	}
	return nil
}

// announce shows a generated password, once; it goes to the terminal and not
// into the log.
func (s service) announce(name, password string) {
	if s.announceGenerated != nil {
		s.announceGenerated(name, password)
		return
	}
	fmt.Fprintf(os.Stderr, "\n  The first operator is %s, with the password\n\n      %s\n\n  It is shown this once. Sign in, and change it with: genarch operator edit %s --password\n\n", name, password, name)
}

// askPassword asks twice; an empty answer has one generated.
func askPassword(name string) (string, error) {
	fmt.Fprintf(os.Stderr, "Password for the first operator, %s (empty: one is generated): ", name)
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
