package mysqlfamily

import (
	"bytes"
	"context"
	"errors"
	"net"
	"syscall"

	"example.com/genarch/engine"
)

// safe are the methods of signing in that give a server nothing which it could
// use elsewhere: a hash over its own random text, or a signature. All others hand
// it the password, in clear or sealed with a key that it chose itself.
var safe = map[string]bool{"mysql_native_password": true, "client_ed25519": true, "parsec": true}

// dialer connects, and keeps whoever answers from asking for the password in a
// form that gives it away. With TLS the line cannot be read along, and the
// certificate must prove the server before ([Engine.Open]).
func dialer(x *engine.Transport, network string) func(ctx context.Context, _, address string) (net.Conn, error) {
	return func(ctx context.Context, _, address string) (net.Conn, error) {
		if network == "unix" {
			if err := engine.CheckSocket(address); err != nil {
				return nil, err
			}
		}
		conn, err := (&net.Dialer{Timeout: connectTimeout, KeepAlive: -1}).DialContext(ctx, network, address)
		if err != nil || x.Config() != nil {
			return conn, err
		}
		return &wary{Conn: conn, transport: x}, nil
	}
}

// wary reads a server's packets along until the sign-in is over. A packet has a
// length of three bytes, a number, and its content. Source: MariaDB's "Connection
// Phase" of the client/server protocol.
type wary struct {
	net.Conn
	transport *engine.Transport
	over      bool   // the sign-in is over: nothing is read along any more
	packets   int    // that were read
	ready     []byte // what was read and may be passed on
}

// SyscallConn lets the driver look whether an idle line is still there.
func (w *wary) SyscallConn() (syscall.RawConn, error) {
	c, ok := w.Conn.(syscall.Conn)
	if !ok {
		return nil, errors.ErrUnsupported
	}
	return c.SyscallConn()
}

// maxHandshake bounds a packet of the sign-in.
const maxHandshake = 64 << 10

// Read passes on what was looked at.
func (w *wary) Read(p []byte) (int, error) {
	if w.over && len(w.ready) == 0 {
		return w.Conn.Read(p)
	}
	if len(w.ready) == 0 {
		if err := w.packet(); err != nil {
			return 0, err
		}
	}
	n := copy(p, w.ready)
	w.ready = w.ready[n:]
	return n, nil
}

// packet reads one packet of the server whole, and looks at it.
func (w *wary) packet() error {
	head := make([]byte, 4)
	if err := readFull(w.Conn, head); err != nil {
		return err
	}
	size := int(head[0]) | int(head[1])<<8 | int(head[2])<<16
	if size > maxHandshake {
		return w.transport.Unproven("a method that cannot be told")
	}
	body := make([]byte, size)
	if err := readFull(w.Conn, body); err != nil {
		return err
	}
	w.packets++
	if method, asks := methodAsked(body, w.packets == 1); asks && !safe[method] {
		return w.transport.Unproven(method)
	}
	// An OK or an error ends the sign-in; and what else there is in it (the
	// further steps of methods) only unsafe ones have.
	w.over = w.packets > 1 && (size == 0 || body[0] == 0x00 || body[0] == 0xff) ||
		w.packets == 1 && size > 0 && body[0] == 0xff
	if w.packets > 1 && size > 0 && body[0] == 0x01 {
		return w.transport.Unproven("a further step of its method")
	}
	w.ready = append(head, body...)
	return nil
}

func readFull(c net.Conn, p []byte) error {
	for n := 0; n < len(p); {
		m, err := c.Read(p[n:])
		if n += m; err != nil && n < len(p) {
			return err
		}
	}
	return nil
}

// methodAsked is the method that a packet asks for: the first one names the
// server's own in its last text, a later one that begins with 0xfe another.
func methodAsked(body []byte, first bool) (string, bool) {
	switch {
	case first && len(body) > 0 && body[0] == 0xff:
		return "", false // it refuses to talk at all
	case first:
		// protocol version, server version, thread number, 8 bytes of random text,
		// filler, abilities, character set, status, abilities, its length, filler.
		end := bytes.IndexByte(body, 0)
		at := end + 1 + 4 + 8 + 1 + 2 + 1 + 2 + 2
		if end < 0 || len(body) < at+1+10 {
			return "a method that cannot be told", true
		}
		random := max(13, int(body[at])-8)
		at += 1 + 10 + random
		if at >= len(body) {
			return "mysql_native_password", true // a server that has no other
		}
		return text(body[at:]), true
	case len(body) == 1 && body[0] == 0xfe:
		return "mysql_old_password", true
	case len(body) > 1 && body[0] == 0xfe:
		return text(body[1:]), true
	}
	return "", false
}

// text is what stands before the next zero byte.
func text(b []byte) string {
	if end := bytes.IndexByte(b, 0); end >= 0 {
		b = b[:end]
	}
	return string(b)
}
