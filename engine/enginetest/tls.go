package enginetest

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/engine"
)

// Certificate makes an authority and a certificate for 127.0.0.1 signed by it,
// in files that only their owner can read. It returns the authority as PEM text.
func Certificate(tb testing.TB, dir string) (ca, certFile, keyFile string) {
	tb.Helper()
	check := func(err error) {
		tb.Helper()
		if err != nil {
			tb.Fatal(err)
		}
	}
	caKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	check(err)
	authority := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Ossavik Line"},
		NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	caDER, err := x509.CreateCertificate(rand.Reader, authority, authority, caKey.Public(), caKey)
	check(err)
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	check(err)
	leaf := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "harbour"},
		NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	leafDER, err := x509.CreateCertificate(rand.Reader, leaf, authority, key.Public(), caKey)
	check(err)
	keyDER, err := x509.MarshalPKCS8PrivateKey(key)
	check(err)
	encode := func(kind string, der []byte) []byte { return pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}) }
	certFile, keyFile = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	check(os.WriteFile(certFile, encode("CERTIFICATE", leafDER), 0o644))
	check(os.WriteFile(keyFile, encode("PRIVATE KEY", keyDER), 0o600))
	return string(encode("CERTIFICATE", caDER)), certFile, keyFile
}

// RunTLS proves the three modes on a server that has a certificate of ca. proves:
// the engine's way of signing in proves the server too, so that a certificate
// which nobody vouches for may be taken once, to be known by its key.
func RunTLS(t *testing.T, e engine.Engine, target engine.Target, ca, certFile string, proves bool) {
	other, _, _ := Certificate(t, t.TempDir())
	for _, tt := range []struct {
		mode      catalog.TLSMode
		ca, host  string
		ok, crypt bool
	}{
		{catalog.TLSOff, "", "127.0.0.1", true, false},
		{catalog.TLSRequired, "", "127.0.0.1", proves, proves},
		{catalog.TLSVerified, ca, "127.0.0.1", true, true},
		{catalog.TLSVerified, other, "127.0.0.1", false, false},
		{catalog.TLSVerified, ca, "localhost", false, false}, // not the name in the certificate
	} {
		target.Server.TLS, target.Server.CA, target.Server.Host = tt.mode, tt.ca, tt.host
		in, err := Open(t, e, target).Inspect(t.Context())
		if (err == nil) != tt.ok || in.TLS != tt.crypt {
			t.Errorf("TLS %s to %s: %v, encrypted %v; want ok %v, encrypted %v", tt.mode, tt.host, err, in.TLS, tt.ok,
				tt.crypt)
		}
		if err != nil && !tt.ok {
			if f := engine.Failure(err); f.Kind != string(engine.NotSent) || f.Next == "" {
				t.Errorf("TLS %s to %s: %+v", tt.mode, tt.host, f)
			}
		}
	}
	// From then on only the same key is taken, before anything is sent.
	known := target
	known.Server.TLS, known.Server.CA, known.Server.Host = catalog.TLSVerified, ca, "127.0.0.1"
	verified, err := Open(t, e, known).Inspect(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(certFile)
	if err != nil {
		t.Fatal(err)
	}
	block, _ := pem.Decode(text)
	certificate, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		t.Fatal(err)
	}
	key := engine.KeyOf(certificate)
	known.Server.TLS, known.Server.CA = catalog.TLSRequired, ""
	known.Server.Identity = catalog.Identity{Key: verified.Identity.Key,
		Marks: map[string]string{catalog.MarkTLSKey: key}}
	in, err := Open(t, e, known).Inspect(t.Context())
	if err != nil || !in.TLS || in.Identity.Marks[catalog.MarkTLSKey] != key {
		t.Errorf("TLS required with the known key: %v %+v; want the key %s", err, in.Identity, key)
	}
	known.Server.Identity.Marks = map[string]string{catalog.MarkTLSKey: "sha256:another"}
	_, err = Open(t, e, known).Inspect(t.Context())
	if id, ok := errors.AsType[*engine.IdentityError](err); !ok || id.Found.Marks[catalog.MarkTLSKey] != key {
		t.Errorf("TLS required with another key: %v", err)
	}
	target.Server.TLS, target.Server.CA = catalog.TLSVerified, "no certificate"
	if _, err := e.Open(target); err == nil {
		t.Error("a CA file without a certificate was taken")
	}
}
