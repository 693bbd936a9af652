// Package tds is the server's side of the Tabular Data Stream protocol, version
// 7.4, as published in [MS-TDS]: packets, pre-login, TLS inside pre-login
// packets, log-in records, requests and token streams.
package tds

import (
	"bufio"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"time"
	"unicode/utf16"
)

// The kinds of packet.
const (
	PacketBatch     = 0x01
	PacketRPC       = 0x03
	PacketReply     = 0x04
	PacketAttention = 0x06
	PacketTM        = 0x0E
	PacketLogin     = 0x10
	PacketPrelogin  = 0x12
)

const (
	statusEOM       = 0x01
	statusReset     = 0x08
	statusResetKeep = 0x10
	maxMessage      = 32 << 20
)

// Encryption is what pre-login says of TLS.
type Encryption byte

// The values of the pre-login option ENCRYPTION.
const (
	EncryptOff    Encryption = 0 // the log-in record only
	EncryptOn     Encryption = 1
	EncryptNotSup Encryption = 2
	EncryptReq    Encryption = 3
)

// Conn is one client's connection.
type Conn struct {
	raw    net.Conn
	rw     net.Conn
	r      *bufio.Reader
	size   int
	packet byte
	out    []byte
	// SPID goes into the header of every packet.
	SPID      uint16
	Encrypted bool
}

// Message is one whole message of the client.
type Message struct {
	Type byte
	// Reset: the session is to be reset first; KeepTran: but not its transaction.
	Reset, KeepTran bool
	Data            []byte
}

// Login is the client's log-in record.
type Login struct {
	TDSVersion, ClientVersion, PID uint32
	PacketSize                     int
	Host, User, Password, App      string
	Server, Library, Database      string
	NewPassword, Language          string
	ReadOnly                       bool
	Integrated                     bool
}

// Accept carries out pre-login and reads the log-in record. Without a tls
// configuration the server says that it cannot encrypt. force refuses clear text.
//
// Long: the parts of a record stand one after the other.
func Accept(nc net.Conn, cfg *tls.Config, force bool) (*Conn, *Login, error) {
	c := &Conn{raw: nc, rw: nc, r: bufio.NewReader(nc), size: 4096}
	first, err := c.r.Peek(1)
	if err != nil {
		return nil, nil, err
	}
	strict := first[0] == 0x16 // a TLS record: TDS 8, encrypt=strict
	if strict {
		if cfg == nil {
			return nil, nil, errors.New("tds: no TLS here")
		}
		full := cfg.Clone()
		full.NextProtos = []string{"tds/8.0"}
		t := tls.Server(&bufConn{Conn: nc, r: c.r}, full)
		if err := t.Handshake(); err != nil {
			return nil, nil, fmt.Errorf("tds: TLS: %w", err)
		}
		c.rw, c.r, c.Encrypted = t, bufio.NewReader(t), true
	}
	m, err := c.ReadMessage()
	if err != nil {
		return nil, nil, err
	}
	if m.Type != PacketPrelogin {
		return nil, nil, fmt.Errorf("tds: packet %#x in place of pre-login", m.Type)
	}
	want := EncryptNotSup
	if e, ok := preloginOption(m.Data, 1); ok && len(e) > 0 {
		want = Encryption(e[0])
	}
	answer := EncryptNotSup
	switch {
	case strict:
		answer = EncryptNotSup
	case cfg == nil:
	case want == EncryptOn || want == EncryptReq:
		answer = EncryptOn
	case force:
		answer = EncryptReq
	case want == EncryptOff:
		answer = EncryptOff
	}
	if err := c.sendPrelogin(answer); err != nil {
		return nil, nil, err
	}
	loginOnly := false
	if answer != EncryptNotSup && !(answer == EncryptReq && want == EncryptNotSup) {
		hs := &handshakeConn{Conn: nc, r: c.r}
		old := cfg.Clone()
		old.MaxVersion = tls.VersionTLS12
		t := tls.Server(hs, old)
		if err := t.Handshake(); err != nil {
			return nil, nil, fmt.Errorf("tds: TLS: %w", err)
		}
		hs.done = true
		loginOnly = answer == EncryptOff
		plain := c.r
		c.rw, c.r, c.Encrypted = t, bufio.NewReader(t), !loginOnly
		defer func() {
			if loginOnly {
				c.rw, c.r = nc, plain
			}
		}()
	}
	m, err = c.ReadMessage()
	if err != nil {
		return nil, nil, err
	}
	if m.Type != PacketLogin {
		return nil, nil, fmt.Errorf("tds: packet %#x in place of a log-in", m.Type)
	}
	l, err := parseLogin(m.Data)
	if err != nil {
		return nil, nil, err
	}
	if l.PacketSize >= 512 && l.PacketSize <= 32767 {
		c.size = l.PacketSize
	}
	return c, l, nil
}

// bufConn reads what was peeked at first.
type bufConn struct {
	net.Conn
	r *bufio.Reader
}

func (b *bufConn) Read(p []byte) (int, error) { return b.r.Read(p) }

// handshakeConn carries TLS records inside pre-login packets until done.
type handshakeConn struct {
	net.Conn
	r    *bufio.Reader
	left int
	done bool
}

func (h *handshakeConn) Read(p []byte) (int, error) {
	if h.done && h.left == 0 {
		return h.r.Read(p)
	}
	if h.left == 0 {
		var head [8]byte
		if _, err := io.ReadFull(h.r, head[:]); err != nil {
			return 0, err
		}
		h.left = int(binary.BigEndian.Uint16(head[2:])) - 8
		if head[0] != PacketPrelogin || h.left < 0 {
			return 0, errors.New("tds: no pre-login packet around a TLS record")
		}
	}
	n, err := h.r.Read(p[:min(len(p), h.left)])
	h.left -= n
	return n, err
}

func (h *handshakeConn) Write(p []byte) (int, error) {
	if h.done {
		return h.Conn.Write(p)
	}
	for off := 0; off < len(p); {
		n := min(len(p)-off, 4088)
		pkt := header(PacketPrelogin, 0, n+8, 0, 0)
		if off+n == len(p) {
			pkt[1] = statusEOM
		}
		if _, err := h.Conn.Write(append(pkt, p[off:off+n]...)); err != nil {
			return off, err
		}
		off += n
	}
	return len(p), nil
}

func header(typ, status byte, length int, spid uint16, id byte) []byte {
	return []byte{typ, status, byte(length >> 8), byte(length), byte(spid >> 8), byte(spid), id, 0}
}

func preloginOption(data []byte, want byte) ([]byte, bool) {
	for i := 0; i+5 <= len(data) && data[i] != 0xFF; i += 5 {
		off, n := int(binary.BigEndian.Uint16(data[i+1:])), int(binary.BigEndian.Uint16(data[i+3:]))
		if data[i] == want && off+n <= len(data) {
			return data[off : off+n], true
		}
	}
	return nil, false
}

func (c *Conn) sendPrelogin(e Encryption) error {
	type opt struct {
		id byte
		v  []byte
	}
	opts := []opt{{0, []byte{16, 0, 0x10, 0x1D, 0, 0}}, {1, []byte{byte(e)}}, {2, []byte{0}}, {3, nil}, {4, []byte{0}}}
	off := 5*len(opts) + 1
	var head, body []byte
	for _, o := range opts {
		head = append(head, o.id, byte(off>>8), byte(off), byte(len(o.v)>>8), byte(len(o.v)))
		body = append(body, o.v...)
		off += len(o.v)
	}
	c.out = append(append(append(c.out, head...), 0xFF), body...)
	return c.Flush(true)
}

// ReadMessage reads one whole message.
func (c *Conn) ReadMessage() (Message, error) {
	var m Message
	for n := 0; ; n++ {
		var head [8]byte
		if _, err := io.ReadFull(c.r, head[:]); err != nil {
			return m, err
		}
		if n == 0 {
			m.Type = head[0]
			m.Reset = head[1]&(statusReset|statusResetKeep) != 0
			m.KeepTran = head[1]&statusResetKeep != 0
		}
		size := int(binary.BigEndian.Uint16(head[2:])) - 8
		if size < 0 || len(m.Data)+size > maxMessage {
			return m, fmt.Errorf("tds: a packet of %d bytes", size+8)
		}
		at := len(m.Data)
		m.Data = append(m.Data, make([]byte, size)...)
		if _, err := io.ReadFull(c.r, m.Data[at:]); err != nil {
			return m, err
		}
		if head[1]&statusEOM != 0 {
			return m, nil
		}
	}
}

// Flush sends what was written; last ends the reply.
func (c *Conn) Flush(last bool) error {
	for {
		n := min(len(c.out), c.size-8)
		status := byte(0)
		if last && n == len(c.out) {
			status = statusEOM
		}
		if n == 0 && !last {
			return nil
		}
		c.packet++
		pkt := append(header(PacketReply, status, n+8, c.SPID, c.packet), c.out[:n]...)
		_ = c.rw.SetWriteDeadline(time.Now().Add(30 * time.Second))
		if _, err := c.rw.Write(pkt); err != nil {
			return err
		}
		c.out = c.out[n:]
		if len(c.out) == 0 {
			c.out = nil
			c.packet = 0
			return nil
		}
	}
}

// Close cuts the line.
func (c *Conn) Close() error { return c.raw.Close() }

// RemoteAddr is where the client is.
func (c *Conn) RemoteAddr() net.Addr { return c.raw.RemoteAddr() }

// LocalAddr is where it was reached.
func (c *Conn) LocalAddr() net.Addr { return c.raw.LocalAddr() }

func parseLogin(b []byte) (*Login, error) {
	if len(b) < 94 {
		return nil, errors.New("tds: a log-in record that is too short")
	}
	le := binary.LittleEndian
	l := &Login{
		TDSVersion:    le.Uint32(b[4:]),
		PacketSize:    int(le.Uint32(b[8:])),
		ClientVersion: le.Uint32(b[12:]),
		PID:           le.Uint32(b[16:]),
	}
	l.Integrated = b[25]&0x80 != 0
	l.ReadOnly = b[26]&0x20 != 0
	var bad error
	text := func(at int, secret bool) string {
		off, n := int(le.Uint16(b[at:])), int(le.Uint16(b[at+2:]))*2
		if n == 0 {
			return ""
		}
		if off+n > len(b) {
			bad = errors.New("tds: a log-in record that points outside itself")
			return ""
		}
		v := append([]byte(nil), b[off:off+n]...)
		if secret {
			for i := range v {
				x := v[i] ^ 0xA5
				v[i] = x<<4 | x>>4
			}
		}
		return UCS2(v)
	}
	l.Host, l.User, l.Password = text(36, false), text(40, false), text(44, true)
	l.App, l.Server = text(48, false), text(52, false)
	l.Library, l.Language, l.Database = text(60, false), text(64, false), text(68, false)
	l.NewPassword = text(86, true)
	return l, bad
}

// UCS2 decodes UTF-16LE.
func UCS2(b []byte) string {
	u := make([]uint16, len(b)/2)
	for i := range u {
		u[i] = binary.LittleEndian.Uint16(b[2*i:])
	}
	return string(utf16.Decode(u))
}

// ToUCS2 encodes UTF-16LE.
func ToUCS2(s string) []byte {
	u := utf16.Encode([]rune(s))
	b := make([]byte, 2*len(u))
	for i, v := range u {
		binary.LittleEndian.PutUint16(b[2*i:], v)
	}
	return b
}
