package server

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"math/big"
	"net"
	"strings"
	"sync"
	"time"

	"example.com/genarch/standin/sqlserver/tds"
)

// Server listens for clients of one instance.
type Server struct {
	Instance *Instance
	// TLS is nil for a server that cannot encrypt.
	TLS *tls.Config
	// Force refuses clients that do not encrypt.
	Force bool

	ln    net.Listener
	mu    sync.Mutex
	conns map[net.Conn]bool
	wg    sync.WaitGroup
}

// SelfSigned makes a certificate for the given names, and gives it as it is sent.
func SelfSigned(names ...string) (*tls.Config, *x509.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	t := &x509.Certificate{
		SerialNumber:          big.NewInt(time.Now().UnixNano()),
		Subject:               pkix.Name{CommonName: names[0]},
		NotBefore:             time.Now().Add(-time.Hour),
		NotAfter:              time.Now().AddDate(1, 0, 0),
		KeyUsage:              x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage:           []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		IsCA:                  true,
		BasicConstraintsValid: true,
	}
	for _, n := range names {
		if ip := net.ParseIP(n); ip != nil {
			t.IPAddresses = append(t.IPAddresses, ip)
		} else {
			t.DNSNames = append(t.DNSNames, n)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return nil, nil, err
	}
	cert, err := x509.ParseCertificate(der)
	return Encrypting(tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}), cert, err
}

// Encrypting is how a server with a certificate encrypts.
func Encrypting(c tls.Certificate) *tls.Config {
	return &tls.Config{Certificates: []tls.Certificate{c}, MinVersion: tls.VersionTLS12, SessionTicketsDisabled: true}
}

// Listen starts to serve at an address of this machine.
func (s *Server) Listen(addr string) (string, error) {
	ln, err := net.Listen("tcp", addr)
	if err != nil {
		return "", err
	}
	s.ln, s.conns = ln, map[net.Conn]bool{}
	for id := 1; id <= 4; id++ { // the server's own
		i := s.Instance
		i.mu.Lock()
		i.sessions[id] = &Session{
			inst:      i,
			ID:        id,
			system:    true,
			LoginTime: i.Started,
			DB:        i.dbs[1],
			home:      i.dbs[1],
			gone:      make(chan struct{}),
			original:  "sa",
			options:   options{lockTimeout: -1},
		}
		i.mu.Unlock()
	}
	s.wg.Add(1)
	go func() {
		defer s.wg.Done()
		for {
			nc, err := ln.Accept()
			if err != nil {
				return
			}
			s.mu.Lock()
			s.conns[nc] = true
			s.mu.Unlock()
			s.wg.Add(1)
			go func() {
				defer s.wg.Done()
				s.serve(nc)
				s.mu.Lock()
				delete(s.conns, nc)
				s.mu.Unlock()
			}()
		}
	}()
	return ln.Addr().String(), nil
}

// Close cuts all lines, as a crash would.
func (s *Server) Close() {
	_ = s.ln.Close()
	s.mu.Lock()
	for c := range s.conns {
		_ = c.Close()
	}
	s.mu.Unlock()
	s.wg.Wait()
}

// Restart ends all sessions and goes on with another instance at the same address
// (or with the same one, whose tempdb is made anew).
func (s *Server) Restart(i *Instance) error {
	addr := s.ln.Addr().String()
	s.Close()
	if i == s.Instance {
		i.mu.Lock()
		i.Started = time.Now()
		i.dbs[2].Created = tds.RoundDateTime(time.Now().UTC())
		i.mu.Unlock()
	}
	s.Instance = i
	_, err := s.Listen(addr)
	return err
}

// serve: Long: a session is told from its beginning to its end.
func (s *Server) serve(nc net.Conn) {
	defer func() { _ = nc.Close() }()
	_ = nc.SetDeadline(time.Now().Add(15 * time.Second))
	conn, login, err := tds.Accept(nc, s.TLS, s.Force)
	if err != nil {
		return
	}
	_ = nc.SetDeadline(time.Time{})
	i := s.Instance
	ses, probs := i.login(conn, login)
	if probs != nil {
		for _, p := range probs {
			conn.Say(
				tds.ServerMessage{
					Number: p.Number,
					Class:  p.Class,
					State:  p.State,
					Line:   1,
					Text:   p.Text,
					Server: i.serverName(),
				},
			)
		}
		conn.Finish(tds.Done, tds.DoneError, 0, 0)
		_ = conn.Flush(true)
		return
	}
	defer func() {
		i.mu.Lock()
		ses.rollback()
		ses.drop()
		i.mu.Unlock()
	}()
	greet(conn, ses)
	if conn.Flush(true) != nil {
		return
	}
	msgs := make(chan tds.Message)
	gone := make(chan struct{})
	defer close(gone)
	go func() {
		defer close(msgs)
		for {
			m, err := conn.ReadMessage()
			if err != nil || m.Type == tds.PacketAttention {
				i.mu.Lock()
				if ses.req != nil && ses.req.cancel != nil {
					ses.req.cancel(errCancelled)
				}
				i.mu.Unlock()
			}
			if err != nil {
				return
			}
			select {
			case msgs <- m:
			case <-gone:
				return
			}
		}
	}()
	for m := range msgs {
		if !ses.handle1(m) {
			return
		}
	}
}

func greet(conn *tds.Conn, ses *Session) {
	conn.EnvText(tds.EnvDatabase, ses.DB.Name, "master")
	name := ses.inst.serverName()
	conn.Say(
		tds.ServerMessage{
			Number: 5701,
			State:  2,
			Line:   1,
			Text:   "Changed database context to '" + ses.DB.Name + "'.",
			Server: name,
		},
	)
	conn.Collation()
	conn.EnvText(tds.EnvLanguage, "us_english", "")
	conn.Say(
		tds.ServerMessage{
			Number: 5703,
			State:  1,
			Line:   1,
			Text:   "Changed language setting to us_english.",
			Server: name,
		},
	)
	conn.LoginAck("Microsoft SQL Server", 16, 0, 4125)
	conn.PacketSize()
	conn.Finish(tds.Done, 0, 0, 0)
}

// handle1: Long: a session is told from its beginning to its end.
func (s *Session) handle1(m tds.Message) bool {
	var reset func(*tds.Conn)
	if m.Reset {
		s.inst.mu.Lock()
		if !m.KeepTran {
			s.rollback()
		}
		for len(s.stack) > 0 {
			s.cur, s.stack = s.stack[0], nil
		}
		s.DB = s.home
		if s.inst.dbs[s.home.ID] != s.home || s.home.State != "ONLINE" {
			s.DB = s.inst.dbs[1]
		}
		s.options = options{isolation: 2, lockTimeout: -1}
		s.LoginTime = time.Now().UTC()
		db := s.DB.Name
		s.inst.mu.Unlock()
		reset = func(c *tds.Conn) {
			c.EnvBytes(tds.EnvReset, nil, nil)
			c.EnvText(tds.EnvDatabase, db, "")
		}
	}
	refuse := func(text string) bool {
		s.conn.Say(
			tds.ServerMessage{Number: 50000, Class: 16, State: 1, Line: 1, Text: text, Server: s.inst.serverName()},
		)
		s.conn.Finish(tds.Done, tds.DoneError, 0, 0)
		return s.conn.Flush(true) == nil
	}
	switch m.Type {
	case tds.PacketAttention:
		s.conn.Finish(tds.Done, tds.DoneAttn, 0, 0)
		return s.conn.Flush(true) == nil
	case tds.PacketBatch:
		text, _, err := tds.ParseBatch(m.Data)
		if err != nil {
			return refuse(err.Error())
		}
		return s.Run(text, nil, false, reset)
	case tds.PacketRPC:
		call, _, err := tds.ParseRPC(m.Data)
		if err != nil {
			return refuse(err.Error())
		}
		if call.ID == tds.ProcExecuteSQL || strings.EqualFold(call.Proc, "sp_executesql") {
			if len(call.Params) == 0 {
				return refuse("sp_executesql without a statement")
			}
			text1, _ := call.Params[0].Value.(string)
			var params []tds.Param
			if len(call.Params) > 2 {
				params = call.Params[2:]
			}
			return s.Run(text1, params, true, reset)
		}
		if call.Proc == "" {
			return refuse(fmt.Sprintf("The stand-in has no procedure %d.", call.ID))
		}
		text1 := "EXEC " + call.Proc
		for k, p := range call.Params {
			if k > 0 {
				text1 += ","
			}
			if p.Name != "" {
				text1 += " " + p.Name + " ="
			} else {
				call.Params[k].Name = fmt.Sprintf("@p%d", k+1)
			}
			text1 += " " + call.Params[k].Name
		}
		return s.Run(text1, call.Params, true, reset)
	case tds.PacketTM:
		kind, isolation, err := tds.ParseTM(m.Data)
		if err != nil {
			return refuse(err.Error())
		}
		text := map[int]string{tds.TMBegin: "BEGIN TRANSACTION", tds.TMCommit: "COMMIT " +
			"TRANSACTION", tds.TMRollback: "ROLLBACK TRANSACTION"}[kind]
		if text == "" {
			return refuse(fmt.Sprintf("The stand-in knows no request %d of the transaction manager.", kind))
		}
		if kind == tds.TMBegin && isolation != 0 {
			s.inst.mu.Lock()
			s.isolation = int(isolation)
			s.inst.mu.Unlock()
		}
		return s.Run(text, nil, false, reset)
	}
	return false
}

// login checks who comes, and makes a session.
//
// Long: a session is told from its beginning to its end.
func (i *Instance) login(conn *tds.Conn, l *tds.Login) (*Session, []*Problem) {
	i.mu.Lock()
	defer i.mu.Unlock()
	refused := []*Problem{
		{Number: 18456, Class: 14, State: 1, Text: fmt.Sprintf("Login failed for user '%s'.", l.User)},
	}
	w := who{}
	var contained *Database
	p := i.principal(l.User)
	switch {
	case l.Integrated:
		return nil, []*Problem{
			{
				Number: 18452,
				Class:  14,
				State:  1,
				Text: "Login failed. The login is from an untrusted domain and cannot be used with Integrated " +
					"authentication.",
			},
		}
	case p == nil || p.Type != "S":
		if d := i.db(l.Database); d != nil && d.Contained && l.Database != "" {
			if u := d.user(i, l.User); u != nil && u.Auth == 2 && checkPassword(u.Hash, l.Password) {
				w.user, w.db, contained = u, d.ID, d
				break
			}
		}
		return nil, refused
	case p.Locked:
		return nil, []*Problem{
			{
				Number: 18486,
				Class:  14,
				State:  1,
				Text: fmt.Sprintf(
					"Login failed for user '%s' because the account is currently locked out. The system "+
						"administrator can unlock it. ",
					l.User,
				),
			},
		}
	case !checkPassword(p.Hash, l.Password):
		if p.Policy {
			p.BadCount++
		}
		return nil, refused
	case p.Disabled:
		return nil, []*Problem{
			{
				Number: 18470,
				Class:  14,
				State:  1,
				Text:   fmt.Sprintf("Login failed for user '%s'. Reason: The account is disabled.", l.User),
			},
		}
	case p.MustChange:
		if l.NewPassword == "" {
			return nil, []*Problem{
				{
					Number: 18488,
					Class:  14,
					State:  1,
					Text: fmt.Sprintf(
						"Login failed for user '%s'.  Reason: The password of the account must be changed.",
						l.User,
					),
				},
			}
		}
		p.Hash, p.MustChange = HashPassword(l.NewPassword, nil), false
		w.login = p
	default:
		w.login = p
	}
	if w.login != nil && !i.serverHas(w, "CONNECT SQL") {
		return nil, refused
	}
	if p != nil {
		p.BadCount = 0
	}
	s := &Session{
		inst:      i,
		cur:       w,
		original:  l.User,
		contained: contained,
		Host:      l.Host,
		Program:   l.App,
		Library:   l.Library,
		PID:       l.PID,
		LoginTime: time.Now().UTC(),
		ConnID:    uuid(),
		conn:      conn,
		options:   options{isolation: 2, lockTimeout: -1},
		gone:      make(chan struct{}),
		encrypted: conn.Encrypted,
	}
	if w.login != nil {
		s.original, s.originalSID = w.login.Name, w.login.SID
	}
	if a, ok := conn.RemoteAddr().(*net.TCPAddr); ok {
		s.addr, s.port = a.IP.String(), a.Port
	}
	if a, ok := conn.LocalAddr().(*net.TCPAddr); ok {
		s.localPort = a.Port
	}
	name := l.Database
	if name == "" && w.login != nil {
		name = w.login.DefaultDB
	}
	d := i.db(name)
	x := &exec{s: s, inst: i}
	s.DB = i.dbs[1]
	bad := d == nil
	if !bad {
		prob, _ := x.guard(func() { x.mustEnter(d) })
		bad = prob != nil
	}
	if bad {
		if l.Database == "" {
			return nil, append(
				[]*Problem{
					{Number: 4064, Class: 11, State: 1, Text: "Cannot open user default database. Login failed."},
				},
				refused...)
		}
		return nil, append(
			[]*Problem{
				{
					Number: 4060,
					Class:  11,
					State:  1,
					Text: fmt.Sprintf(
						"Cannot open database \"%s\" requested by the login. The login failed.",
						l.Database,
					),
				},
			},
			refused...)
	}
	s.DB, s.home = d, d
	for id := 51; ; id++ { // the lowest free number: they are used again
		if i.sessions[id] == nil {
			s.ID = id
			break
		}
	}
	conn.SPID = uint16(s.ID)
	i.sessions[s.ID] = s
	i.broadcast()
	return s, nil
}

// SetHooks changes what goes wrong.
func (i *Instance) SetHooks(h Hooks) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.hooks = h
}

// AddJob puts a job of the agent into msdb.
func (i *Instance) AddJob(name, owner, database, command string) {
	i.mu.Lock()
	defer i.mu.Unlock()
	j := &Job{ID: uuid(), Name: name, Enabled: true, Database: database, Command: command}
	if p := i.principal(owner); p != nil {
		j.Owner = p.SID
	}
	i.jobs = append(i.jobs, j)
}

// Backup makes a session that seems to back a database up, until stopped.
func (i *Instance) Backup(database string) (stop func()) {
	i.mu.Lock()
	defer i.mu.Unlock()
	id := 51
	for i.sessions[id] != nil {
		id++
	}
	d := i.db(database)
	_, cancel := context.WithCancelCause(context.Background())
	s := &Session{
		inst:        i,
		ID:          id,
		cur:         who{login: i.principals[1]},
		original:    "sa",
		originalSID: []byte{1},
		Program:     "SQLAgent - TSQL JobStep",
		Host:        i.Machine,
		LoginTime:   time.Now().UTC(),
		ConnID:      uuid(),
		DB:          i.dbs[1],
		home:        i.dbs[1],
		options:     options{isolation: 2, lockTimeout: -1},
		gone:        make(chan struct{}),
		req: &Request{
			Began:     time.Now().UTC(),
			Command:   "BACKUP DATABASE",
			DB:        d.ID,
			Percent:   12.5,
			Wait:      "BACKUPIO",
			WaitSince: time.Now(),
			cancel:    cancel,
		},
		lastText: "BACKUP DATABASE [" + database + "] TO DISK = N'x.bak'",
	}
	s.handle = handleOf(s.lastText)
	i.sessions[id] = s
	return func() {
		i.mu.Lock()
		defer i.mu.Unlock()
		s.drop()
	}
}

// Mark sets what no statement of the stand-in sets: published, mirrored, in a group, CDC.
func (i *Instance) Mark(database, what string) {
	i.mu.Lock()
	defer i.mu.Unlock()
	d := i.db(database)
	switch what {
	case "published":
		d.Published = true
	case "mirrored":
		d.Mirrored = true
	case "cdc":
		d.CDC = true
	case "":
		d.Published, d.Mirrored, d.CDC, d.Group = false, false, false, ""
	default:
		d.Group = what
	}
}
