package testutil

import (
	"bytes"
	"encoding/binary"
	"net"
	"regexp"
	"sync"
	"testing"
)

// Cut says what becomes of a statement and of its answer.
type Cut string

// The cuts.
const (
	// CutBefore: the line is cut before the statement arrives.
	CutBefore Cut = "cut before it arrives"
	// CutAnswer: the server does it, and the answer is thrown away with the line.
	CutAnswer Cut = "answer thrown away"
	// CutWorking: the client's line is cut at once; the server's stays, and it works
	// on as if somebody listened.
	CutWorking Cut = "cut while the server works"
	// CutUnread: the client's line is cut at once; the statement reaches the server
	// only when it is released.
	CutUnread Cut = "cut, and delivered later"
)

// Faulty is a line to a server that can be cut in the middle of a statement.
type Faulty struct {
	Port int

	listener net.Listener
	target   string

	mu    sync.Mutex // guards all below
	match *regexp.Regexp
	cut   Cut
	hits  int
	held  []func() // statements that wait to be released
	open  map[net.Conn]bool
	ended bool
}

// NewFaulty opens a line to a server on loopback.
func NewFaulty(tb testing.TB, target string) *Faulty {
	tb.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		tb.Fatal(err)
	}
	f := &Faulty{listener: l, target: target, Port: l.Addr().(*net.TCPAddr).Port, open: map[net.Conn]bool{}}
	var all sync.WaitGroup
	all.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			all.Go(func() { f.carry(c) })
		}
	})
	tb.Cleanup(func() {
		l.Close()
		f.Release()
		f.mu.Lock()
		f.ended = true
		for c := range f.open {
			c.Close()
		}
		f.mu.Unlock()
		all.Wait()
	})
	return f
}

// Next cuts the next statement that fits, and no other.
func (f *Faulty) Next(match string, cut Cut) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.match, f.cut, f.hits = regexp.MustCompile(match), cut, 0
}

// Hits is how many statements were cut since Next.
func (f *Faulty) Hits() int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.hits
}

// Release delivers what is held back, and ends those lines.
func (f *Faulty) Release() {
	f.mu.Lock()
	held := f.held
	f.held = nil
	f.mu.Unlock()
	for _, deliver := range held {
		deliver()
	}
}

// take reports whether a piece of the line is to be cut, and how.
func (f *Faulty) take(piece []byte) (Cut, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.match == nil || !f.match.Match(piece) {
		return "", false
	}
	f.match = nil
	f.hits++
	return f.cut, true
}

func (f *Faulty) keep(c net.Conn) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if !f.ended {
		f.open[c] = true
	}
	return !f.ended
}

func (f *Faulty) drop(c net.Conn) {
	c.Close()
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.open, c)
}

// carry passes one connection on.
//
// Long: the loop of one line; its faults belong together.
func (f *Faulty) carry(client net.Conn) {
	defer f.drop(client)
	server, err := net.Dial("tcp", f.target)
	if err != nil || !f.keep(client) || !f.keep(server) {
		return
	}
	var answers sync.WaitGroup
	var quiet sync.Mutex
	silent := false // the answers are thrown away
	answers.Go(func() {
		buf := make([]byte, 64<<10)
		for {
			n, err := server.Read(buf)
			quiet.Lock()
			if !silent && n > 0 {
				_, _ = client.Write(buf[:n])
			}
			if silent || err != nil {
				client.Close()
			}
			quiet.Unlock()
			if err != nil {
				return
			}
		}
	})
	hush := func() {
		quiet.Lock()
		silent = true
		quiet.Unlock()
	}
	buf := make([]byte, 64<<10)
	for {
		n, err := client.Read(buf)
		if n == 0 && err != nil {
			break
		}
		piece := bytes.Clone(buf[:n])
		if len(piece) == 16 && binary.BigEndian.Uint32(piece[4:]) == 80877102 {
			break // a request of PostgreSQL's protocol to cancel: it is lost too
		}
		cut, is := f.take(piece)
		if !is {
			if _, err := server.Write(piece); err != nil {
				break
			}
			continue
		}
		switch cut {
		case CutBefore:
			f.drop(server)
			client.Close()
			answers.Wait()
			return
		case CutAnswer:
			hush()
			_, _ = server.Write(piece)
			_, _ = client.Read(buf) // until the answer came, and the line was cut
			f.drop(server)
			answers.Wait()
			return
		case CutWorking:
			hush()
			client.Close()
			_, _ = server.Write(piece)
			answers.Wait() // until the server ends the session by itself, or is released
			f.drop(server)
			return
		case CutUnread:
			hush()
			client.Close()
			released := make(chan struct{})
			f.mu.Lock()
			f.held = append(f.held, func() {
				_, _ = server.Write(piece)
				close(released)
			})
			f.mu.Unlock()
			<-released
			answers.Wait()
			f.drop(server)
			return
		}
	}
	f.drop(server)
	answers.Wait()
}
