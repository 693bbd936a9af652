// Package sqlserver stands in for Microsoft SQL Server: it speaks its protocol (package tds) and a
// part of its language (package tsql), with a model behind that enforces rules (package server). It
// is no proof of how SQL Server behaves: README.md says what it lacks.
package sqlserver

import (
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"flag"
	"log"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"example.com/genarch/standin/sqlserver/server"
)

// Main starts the stand-in, and runs until it is stopped. What it holds is gone then; its certificate
// and its identity are kept.
func Main(args []string) error {
	flags := flag.NewFlagSet("standin sqlserver", flag.ExitOnError)
	dir := flags.String("dir", "", "folder for its certificate and its identity; needed")
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
	if err := os.MkdirAll(*dir, 0o700); err != nil {
		return err
	}
	mark, err := ownMark(*dir)
	if err != nil {
		return err
	}
	s := &server.Server{Instance: server.New(*machine, "", strings.TrimSpace(string(password)))}
	s.Instance.Version = *version
	s.Instance.SetMark(mark)
	if s.TLS, err = certificate(*dir); err != nil {
		return err
	}
	s.Instance.SetHooks(server.Hooks{Before: cuts(*dir), BackupTakes: pace(*dir)})
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

// certificate is the server's own, which stands in the folder for whoever is to trust it: the one of
// the last start, or a new one.
func certificate(dir string) (*tls.Config, error) {
	file, keyFile := filepath.Join(dir, "ca.pem"), filepath.Join(dir, "ca.key")
	if pair, err := tls.LoadX509KeyPair(file, keyFile); err == nil && time.Now().Before(pair.Leaf.NotAfter) {
		return server.Encrypting(pair), nil
	}
	config, cert, err := server.SelfSigned("localhost", "127.0.0.1")
	if err != nil {
		return nil, err
	}
	private, err := x509.MarshalPKCS8PrivateKey(config.Certificates[0].PrivateKey)
	if err != nil {
		return nil, err
	}
	return config, errors.Join(
		os.WriteFile(keyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), 0o600),
		os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: cert.Raw}), 0o644))
}

// ownMark is what msdb is known by, made at the first start.
func ownMark(dir string) (mark [16]byte, err error) {
	file := filepath.Join(dir, "msdb")
	if text, err := os.ReadFile(file); err == nil && len(text) == len(mark) {
		return [16]byte(text), nil
	}
	rand.Read(mark[:])
	mark[6], mark[8] = mark[6]&0x0f|0x40, mark[8]&0x3f|0x80 // a random one: RFC 9562, section 5.4
	return mark, os.WriteFile(file, mark[:], 0o600)
}

// pace is how long a backup lasts, as the file pace in the folder says: 2s.
func pace(dir string) func() time.Duration {
	return func() time.Duration {
		text, _ := os.ReadFile(filepath.Join(dir, "pace"))
		d, _ := time.ParseDuration(strings.TrimSpace(string(text)))
		return d
	}
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
