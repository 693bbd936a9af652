// Package sqlserver stands in for Microsoft SQL Server: it speaks its protocol (package tds) and a
// part of its language (package tsql), with a model behind that enforces rules (package server). It
// is no proof of how SQL Server behaves: README.md says what it lacks.
package sqlserver

import (
	"crypto/tls"
	"encoding/pem"
	"errors"
	"flag"
	"fmt"
	"log"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"

	"example.com/genarch/standin/sqlserver/server"
)

// Main starts the stand-in, and runs until it is stopped. What it holds is gone then.
func Main(args []string) error {
	flags := flag.NewFlagSet("standin sqlserver", flag.ExitOnError)
	dir := flags.String("dir", "", "folder for its certificate; needed")
	listen := flags.String("listen", "127.0.0.1:14330", "where clients connect")
	version := flags.String("version", "16.0.4125.3", "what to be: 13.0.x to 16.0.x")
	machine := flags.String("machine", "standin", "the name of its machine")
	secretFile := flags.String("secret-file", "", "file with the password of sa; needed")
	if err := flags.Parse(args); err != nil {
		return err
	}
	if *dir == "" || *secretFile == "" {
		return errors.New("-dir and -secret-file are needed")
	}
	password, err := os.ReadFile(*secretFile)
	if err != nil {
		return err
	}
	s := &server.Server{Instance: server.New(*machine, "", strings.TrimSpace(string(password)))}
	s.Instance.Version = *version
	if s.TLS, err = certificate(*dir); err != nil {
		return err
	}
	s.Instance.SetHooks(server.Hooks{Before: cuts(*dir)})
	log.Printf("this is a stand-in for SQL Server %s, not SQL Server", *version)
	at, err := s.Listen(*listen)
	if err != nil {
		return err
	}
	log.Printf("SQL Server %s (stand-in) on %s", *version, at)
	stop := make(chan os.Signal, 1)
	signal.Notify(stop, syscall.SIGTERM, os.Interrupt)
	<-stop
	s.Close()
	return nil
}

// certificate makes one for this run, and leaves what clients check it by in the folder.
func certificate(dir string) (*tls.Config, error) {
	config, cert, err := server.SelfSigned("localhost", "127.0.0.1")
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	text := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: cert.Raw})
	if err := os.WriteFile(filepath.Join(dir, "ca.pem"), text, 0o644); err != nil {
		return nil, fmt.Errorf("the certificate: %w", err)
	}
	return config, nil
}

// cuts has the line cut once, after a statement that holds the text of the file cut in the folder.
func cuts(dir string) func(session int, text string) server.Fault {
	file := filepath.Join(dir, "cut")
	return func(_ int, text string) server.Fault {
		want, err := os.ReadFile(file)
		if err != nil || !strings.Contains(text, string(want)) || os.Remove(file) != nil {
			return server.Fault{}
		}
		return server.Fault{CutAfter: true}
	}
}
