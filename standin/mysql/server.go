// Package mysql stands in for MySQL 8: it speaks MySQL's protocol and dialect, and asks a real
// MariaDB behind, which keeps tables, locks, sessions and grants. It is no proof of how MySQL
// behaves: README.md says what it lacks.
package mysql

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha1"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	_ "embed"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"flag"
	"fmt"
	"log"
	"math/big"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/dolthub/vitess/go/mysql"
)

//go:embed schema.sql
var schema string

// Main starts the stand-in and the MariaDB behind, and runs until it is stopped.
func Main(args []string) error {
	flags := flag.NewFlagSet("standin mysql", flag.ExitOnError)
	dir := flags.String("dir", "", "folder for the data of the MariaDB behind; needed")
	listen := flags.String("listen", "127.0.0.1:13390", "where clients connect")
	version := flags.String("version", "8.0.36", "what to be: 8.0.x, 8.4.x, 9.x")
	uuid := flags.String("uuid", "", "server_uuid; empty: one of its own, kept in its folder")
	admin := flags.String("admin", "genarch", "administrator for clients, from 127.0.0.1, without SYSTEM_USER; root, "+
		"with the same password, has it")
	secretFile := flags.String("secret-file", "", "file with the administrator's password; needed")
	partial := flags.Bool("partial-revokes", false, "what @@partial_revokes says")
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
	log.Printf("this is a stand-in for MySQL %s, not MySQL", *version)
	behind, err := startBehind(*dir)
	if err != nil {
		return err
	}
	defer behind.stop()
	if *uuid == "" {
		if *uuid, err = ownUUID(*dir); err != nil {
			return err
		}
	}
	f, err := newFace(behind, *dir, *version, *uuid, *listen, *partial)
	if err != nil {
		return err
	}
	for name, system := range map[string]bool{*admin: false, "root": true} {
		if err := f.addAdmin(name, strings.TrimSpace(string(password)), system); err != nil {
			return err
		}
	}
	return f.serve(*listen, filepath.Join(*dir, "ca.pem"), behind.ended)
}

// ownUUID is made at the first start, as a server's is.
func ownUUID(dir string) (string, error) {
	file := filepath.Join(dir, "uuid")
	if text, err := os.ReadFile(file); err == nil {
		return string(text), nil
	}
	b := make([]byte, 16)
	rand.Read(b)
	text := fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
	return text, os.WriteFile(file, []byte(text), 0o600)
}

// newFace prepares the catalogues behind.
func newFace(b *behind, dir, version, uuid, listen string, partial bool) (*face, error) {
	f := &face{version: version, dir: dir, host: "127.0.0.1", port: b.port, native: mysqlVersion(version) < 80400,
		variables: map[string]string{
			"server_uuid": quote(uuid), "version_comment": "'MySQL Community Server - GPL'", "super_read_only": "0",
			"offline_mode": "0", "partial_revokes": map[bool]string{true: "1", false: "0"}[partial],
			"mandatory_roles": "''", "activate_all_roles_on_login": "0", "default_table_encryption": "0",
			"table_encryption_privilege_check": "0", "collation_server": "'utf8mb4_0900_ai_ci'",
			"character_set_server": "'utf8mb4'", "default_password_lifetime": "0", "authentication_policy": "'*,,'",
			"caching_sha2_password_digest_rounds": "5000",
		}}
	f.frozen.Store(true)
	_, port, err := net.SplitHostPort(listen)
	if err != nil {
		return nil, err
	}
	f.variables["port"] = port
	if f.native {
		f.variables["have_ssl"] = "'YES'"
	}
	if f.root, err = f.connect(behindAdmin, b.secret); err != nil {
		return nil, fmt.Errorf("the MariaDB behind: %w", err)
	}
	for line := range strings.Lines(schema) {
		if line = strings.TrimSpace(line); line != "" {
			if _, err := f.root.ExecuteFetch(line, 1, false); err != nil {
				return nil, fmt.Errorf("%w\n%s", err, line)
			}
		}
	}
	if err := f.restore(); err != nil {
		return nil, err
	}
	// From 8.4 on the old plugin is off, from 9 on it is gone.
	if v := mysqlVersion(version); v < 90000 {
		status := map[bool]string{true: "ACTIVE", false: "DISABLED"}[f.native]
		_, err = f.root.ExecuteFetch("INSERT INTO mysql8.plugins VALUES ('mysql_native_password', '1.1', '"+status+
			"', 'AUTHENTICATION')", 1, false)
	}
	return f, err
}

// serve takes clients until the process is asked to stop, or the MariaDB behind has ended.
func (f *face) serve(listen, caFile string, ended <-chan struct{}) error {
	l, err := mysql.NewListenerWithConfig(mysql.ListenerConfig{Protocol: "tcp", Address: listen, AuthServer: f,
		Handler: f, ConnReadBufferSize: 16 << 10})
	if err != nil {
		return err
	}
	l.ServerVersion = f.version
	if l.TLSConfig, err = certificate(caFile); err != nil {
		return err
	}
	go l.Accept()
	log.Printf("MySQL %s (stand-in) on %s", f.version, listen)
	stop := make(chan os.Signal, 1)
	signal.Notify(stop, syscall.SIGTERM, os.Interrupt)
	select {
	case <-stop:
	case <-ended:
		err = errors.New("the MariaDB behind has ended")
	}
	l.Close()
	return err
}

func mysqlVersion(text string) (n int) {
	var a, b, c int
	fmt.Sscanf(text, "%d.%d.%d", &a, &b, &c)
	return a*10000 + b*100 + c
}

func (f *face) connect(user, password string) (*mysql.Conn, error) {
	c, err := mysql.Connect(context.Background(), &mysql.ConnParams{Host: f.host, Port: f.port, Uname: user,
		Pass: password, Charset: "utf8mb4", SslMode: "disabled"})
	if err == nil {
		// As most clients ask for, and as the texts in the catalogues are written.
		_, err = c.ExecuteFetch("SET NAMES utf8mb4 COLLATE utf8mb4_general_ci, "+
			"sql_mode = CONCAT(@@sql_mode, ',NO_AUTO_CREATE_USER')", 1, false) // GRANT makes no accounts
	}
	return c, err
}

func nativeHash(password string) string {
	a := sha1.Sum([]byte(password))
	b := sha1.Sum(a[:])
	return "*" + strings.ToUpper(hex.EncodeToString(b[:]))
}

func secret() string {
	b := make([]byte, 16)
	rand.Read(b)
	return hex.EncodeToString(b)
}

// certificate is the server's own, which stands in a file for whoever is to trust it: the one
// of the last start, or a new one.
func certificate(file string) (*tls.Config, error) {
	keyFile := file + ".key"
	if pair, err := tls.LoadX509KeyPair(file, keyFile); err == nil && time.Now().Before(pair.Leaf.NotAfter) {
		return &tls.Config{Certificates: []tls.Certificate{pair}}, nil
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "mysql stand-in"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, DNSNames: []string{"localhost"}, IsCA: true,
		BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}},
		errors.Join(os.WriteFile(keyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), 0o600),
			os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o644))
}
