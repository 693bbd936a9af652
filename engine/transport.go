package engine

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"fmt"
	"maps"
	"net"
	"os"
	"path/filepath"
	"sync/atomic"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/remedy"
)

// Transport is how connections to a server are protected. It may be used by many
// goroutines.
type Transport struct {
	target Target
	roots  *x509.CertPool // nil: those of the system
	// presented is the key that the server showed last, as KeyOf writes it.
	presented atomic.Value
	// refused is why the last connection was given up before the password was sent,
	// for drivers that pass on only that the line is gone.
	refused atomic.Pointer[error]
}

// NewTransport checks what the registration says of TLS.
func NewTransport(t Target) (*Transport, error) {
	x := &Transport{target: t}
	if t.Server.TLS == catalog.TLSVerified && t.Server.CA != "" {
		x.roots = x509.NewCertPool()
		if !x.roots.AppendCertsFromPEM([]byte(t.Server.CA)) {
			return nil, &Error{Op: "open", Kind: NotSent, Text: "the CA file holds no PEM certificate",
				Next: "Give the certificate of the authority that signed the server's own."}
		}
	}
	return x, nil
}

// KeyOf writes the public key of a certificate: sha256: and the base64 of the hash
// of its SubjectPublicKeyInfo (RFC 5280), as one can work out on the server.
func KeyOf(c *x509.Certificate) string {
	sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return "sha256:" + base64.StdEncoding.EncodeToString(sum[:])
}

// Pinned is the key by which the server is known; empty: by none.
func (x *Transport) Pinned() string { return x.target.Server.Identity.Marks[catalog.MarkTLSKey] }

// Proven reports whether a server shows who it is before anything secret is sent
// to it: by an authority, or by its known key.
func (x *Transport) Proven() bool {
	return x.target.Server.TLS == catalog.TLSVerified || x.target.Server.TLS == catalog.TLSRequired && x.Pinned() != ""
}

// Config is the TLS configuration for one server; nil: no TLS.
func (x *Transport) Config() *tls.Config {
	switch x.target.Server.TLS {
	case catalog.TLSVerified:
		return &tls.Config{RootCAs: x.roots, ServerName: x.target.Server.Host, MinVersion: tls.VersionTLS12}
	case catalog.TLSRequired:
		return &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12, VerifyConnection: x.verify}
	}
	return nil
}

// verify compares the key that a server shows with the known one. It runs within
// the handshake: what follows, the password above all, is sent only then.
func (x *Transport) verify(state tls.ConnectionState) error {
	if len(state.PeerCertificates) == 0 {
		return fmt.Errorf("the server shows no certificate")
	}
	key := KeyOf(state.PeerCertificates[0])
	x.presented.Store(key)
	known := x.target.Server.Identity
	if pinned := x.Pinned(); pinned == "" || pinned == key {
		return nil
	}
	found := catalog.Identity{Key: known.Key, Marks: maps.Clone(known.Marks)}
	found.Marks[catalog.MarkTLSKey] = key
	return x.refuse(&IdentityError{Server: x.target.Server.Name, Known: known, Found: found})
}

// Marked adds the key that the server showed to what it says of itself.
func (x *Transport) Marked(id catalog.Identity) catalog.Identity {
	key, _ := x.presented.Load().(string)
	if key == "" || x.target.Server.TLS != catalog.TLSRequired {
		return id
	}
	marks := maps.Clone(id.Marks)
	if marks == nil {
		marks = map[string]string{}
	}
	marks[catalog.MarkTLSKey] = key
	return catalog.Identity{Key: id.Key, Marks: marks}
}

// Unproven is the error of a server that asks for the password in a form that
// only one which has proved itself may have.
func (x *Transport) Unproven(method string) *Error {
	e := &Error{Op: "sign in", Kind: NotSent,
		Text: "the server asks for the password by " + method +
			", which would hand it over, and has not proved which one it is; nothing was sent",
		Next: "Register it with TLS verified (with the certificate of its authority, where that is your own), or let " +
			"Genarch's login use a method that gives nothing away.",
		Actions: []remedy.Action{remedy.Command("server.edit", "").With("tls", "verified")}}
	if key, _ := x.presented.Load().(string); key != "" {
		e.Next += " Or, if " + key + " is the key of its certificate (compare it on the server itself), give that key."
		e.Actions = append(e.Actions, remedy.Command("server.edit", "").With("server_key", key))
	}
	x.refuse(e)
	return e
}

func (x *Transport) refuse(err error) error {
	x.refused.Store(&err)
	return err
}

// Refused takes why the last connection was given up before the password was sent;
// nil: none was.
func (x *Transport) Refused() error {
	if err := x.refused.Swap(nil); err != nil {
		return *err
	}
	return nil
}

// CheckSocket refuses a socket in whose folder everybody may put one of their own.
func CheckSocket(path string) error {
	dir := path
	if info, err := os.Stat(path); err == nil && !info.IsDir() {
		dir = filepath.Dir(path)
	}
	info, err := os.Stat(dir)
	if err != nil {
		return Classify("connect", &net.OpError{Op: "dial", Net: "unix", Err: err}, false)
	}
	if info.Mode().Perm()&0o002 != 0 {
		return &Error{Op: "connect", Kind: NotSent,
			Text: "everybody may write to " + dir + ", so anybody could wait there in the server's place",
			Next: "Have the server put its socket into a folder that only it may write to."}
	}
	return nil
}
