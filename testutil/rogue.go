package testutil

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/binary"
	"encoding/pem"
	"io"
	"math/big"
	"net"
	"sync"
	"testing"
	"time"
)

// Rogue is somebody who waits at a server's address and asks whoever connects for
// their password in the form that gives it away. It keeps what it is told.
type Rogue struct {
	Port int

	listener net.Listener
	speak    func(r *Rogue, c net.Conn)
	tls      *tls.Config // nil: it speaks no TLS

	mu    sync.Mutex // guards told and calls
	told  []string
	calls int
}

// RoguePostgres speaks PostgreSQL's protocol and asks for the password in clear.
// port 0 takes a free one; withTLS has it show a certificate of its own making.
func RoguePostgres(tb testing.TB, port int, withTLS bool) *Rogue {
	return rogue(tb, port, withTLS, (*Rogue).postgres)
}

// RogueMariaDB speaks MariaDB's protocol and asks by the full form of
// caching_sha2_password: in clear within TLS, else sealed with a key of its own.
func RogueMariaDB(tb testing.TB, port int, withTLS bool) *Rogue {
	return rogue(tb, port, withTLS, (*Rogue).mariadb)
}

func rogue(tb testing.TB, port int, withTLS bool, speak func(*Rogue, net.Conn)) *Rogue {
	tb.Helper()
	l, err := net.ListenTCP("tcp", &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: port})
	if err != nil {
		tb.Fatal(err)
	}
	r := &Rogue{listener: l, Port: l.Addr().(*net.TCPAddr).Port, speak: speak}
	if withTLS {
		r.tls = &tls.Config{Certificates: []tls.Certificate{selfSigned(tb)}}
	}
	var all sync.WaitGroup
	all.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			all.Go(func() {
				defer c.Close()
				_ = c.SetDeadline(time.Now().Add(10 * time.Second))
				r.mu.Lock()
				r.calls++
				r.mu.Unlock()
				r.speak(r, c)
			})
		}
	})
	tb.Cleanup(func() {
		l.Close()
		all.Wait()
	})
	return r
}

// Told is every password that it was given, and how often somebody called.
func (r *Rogue) Told() ([]string, int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return append([]string{}, r.told...), r.calls
}

func (r *Rogue) tell(password []byte) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.told = append(r.told, string(bytes.TrimRight(password, "\x00")))
}

// postgres answers as PostgreSQL does ("Message Flow" of its manual).
func (r *Rogue) postgres(c net.Conn) {
	for {
		head := make([]byte, 8)
		if _, err := io.ReadFull(c, head); err != nil {
			return
		}
		size := int(binary.BigEndian.Uint32(head)) - 8
		switch binary.BigEndian.Uint32(head[4:]) {
		case 80877103: // SSLRequest
			if r.tls == nil {
				_, _ = c.Write([]byte("N"))
				continue
			}
			_, _ = c.Write([]byte("S"))
			c = tls.Server(c, r.tls)
			continue
		case 196608: // the start of a session
		default:
			return
		}
		if _, err := io.CopyN(io.Discard, c, int64(size)); err != nil {
			return
		}
		_, _ = c.Write([]byte{'R', 0, 0, 0, 8, 0, 0, 0, 3}) // AuthenticationCleartextPassword
		answer := make([]byte, 5)
		if _, err := io.ReadFull(c, answer); err != nil || answer[0] != 'p' {
			return
		}
		password := make([]byte, int(binary.BigEndian.Uint32(answer[1:]))-4)
		if _, err := io.ReadFull(c, password); err == nil {
			r.tell(password)
		}
		return
	}
}

// mariadb answers as a server does whose account has caching_sha2_password.
//
// Long: the packets of a sign-in in their order.
func (r *Rogue) mariadb(c net.Conn) {
	seq := byte(0)
	write := func(body []byte) {
		_, _ = c.Write(append([]byte{byte(len(body)), byte(len(body) >> 8), byte(len(body) >> 16), seq}, body...))
		seq++
	}
	read := func() []byte {
		head := make([]byte, 4)
		if _, err := io.ReadFull(c, head); err != nil {
			return nil
		}
		body := make([]byte, int(head[0])|int(head[1])<<8|int(head[2])<<16)
		if _, err := io.ReadFull(c, body); err != nil {
			return nil
		}
		seq = head[3] + 1
		return body
	}
	// Long password, 4.1, secure, plugin, TLS.
	const abilities = 0x00000001 | 0x00000200 | 0x00008000 | 0x00080000 | 0x00000800
	salt := []byte("abcdefghijklmnopqrst")
	greeting := append([]byte{10}, "5.5.5-10.11.19-MariaDB\x00\x01\x00\x00\x00"...)
	greeting = append(append(greeting, salt[:8]...), 0)
	greeting = append(greeting, byte(abilities&0xff), byte(abilities>>8&0xff), 45, 2, 0, byte(abilities>>16&0xff),
		byte(abilities>>24&0xff), 21)
	greeting = append(append(greeting, make([]byte, 10)...), salt[8:]...)
	write(append(append(greeting, 0), "caching_sha2_password\x00"...))
	answer := read()
	inTLS := false
	if len(answer) == 32 && r.tls != nil { // SSLRequest
		conn := tls.Server(c, r.tls)
		if conn.Handshake() != nil {
			return
		}
		c, inTLS = conn, true
		answer = read()
	}
	if answer == nil {
		return
	}
	write([]byte{0x01, 0x04}) // full authentication
	if answer = read(); answer == nil {
		return
	}
	if inTLS {
		r.tell(answer)
		return
	}
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return
	}
	der, _ := x509.MarshalPKIXPublicKey(&key.PublicKey)
	write(append([]byte{0x01}, pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der})...))
	sealed := read()
	clear, err := rsa.DecryptOAEP(sha1.New(), rand.Reader, key, sealed, nil)
	if err != nil {
		return
	}
	for i := range clear {
		clear[i] ^= salt[i%len(salt)]
	}
	r.tell(clear)
}

func selfSigned(tb testing.TB) tls.Certificate {
	tb.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		tb.Fatal(err)
	}
	about := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "nobody"},
		NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, about, about, key.Public(), key)
	if err != nil {
		tb.Fatal(err)
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}
