package server

import (
	"time"

	"example.com/genarch/standin/sqlserver/tds"
	"example.com/genarch/standin/sqlserver/tsql"
)

func (x *exec) tran(t tsql.Tran) {
	s := x.s
	switch t.Op {
	case "BEGIN":
		s.begin(t.Name)
		if s.trancount == 1 {
			id := descriptor(s.tx.ID)
			x.emit(func(c *tds.Conn, _ int) { c.EnvBytes(tds.EnvBegin, id, nil) })
		}
	case "COMMIT":
		if s.trancount == 0 {
			fail(3902, 16, 1, "The COMMIT TRANSACTION request has no corresponding BEGIN TRANSACTION.")
		}
		if s.trancount == 1 {
			id := descriptor(s.tx.ID)
			x.emit(func(c *tds.Conn, _ int) { c.EnvBytes(tds.EnvCommit, nil, id) })
		}
		s.commit()
	case "ROLLBACK":
		if s.trancount == 0 {
			fail(3903, 16, 1, "The ROLLBACK TRANSACTION request has no corresponding BEGIN TRANSACTION.")
		}
		id := descriptor(s.tx.ID)
		x.emit(func(c *tds.Conn, _ int) { c.EnvBytes(tds.EnvRollback, nil, id) })
		s.rollback()
	case "SAVE":
		if s.trancount == 0 {
			fail(628, 16, 0, "Cannot issue SAVE TRANSACTION when there is no active transaction.")
		}
	}
}

func (s *Session) begin(name string) {
	if s.tx == nil {
		s.inst.nextXact++
		if name == "" {
			name = "user_transaction"
		}
		s.tx = &Tx{
			ID:    s.inst.nextXact,
			Name:  name,
			Began: time.Now().UTC(),
			bytes: map[int]int64{},
			count: map[int]int64{},
		}
	}
	s.trancount++
}

func (s *Session) commit() {
	if s.trancount--; s.trancount > 0 {
		return
	}
	s.release()
}

func (s *Session) release() {
	if s.tx != nil {
		for _, o := range s.tx.locked {
			o.writer = nil
		}
	}
	s.tx, s.trancount = nil, 0
	s.inst.broadcast()
}

// rollback takes the transaction back; it may last, with the lock given up.
func (s *Session) rollback() {
	tx := s.tx
	if tx == nil {
		s.trancount = 0
		return
	}
	per := s.inst.hooks.RollbackPerRow
	total := len(tx.undo)
	if per > 0 && total > 0 {
		s.rolling = true
		if s.req == nil {
			s.req = &Request{Began: time.Now().UTC(), DB: s.DB.ID}
		}
		s.req.Command = "ROLLBACK TRANSACTION"
		if s.killed {
			s.req.Command = "KILLED/ROLLBACK"
		}
	}
	for k := total - 1; k >= 0; k-- {
		tx.undo[k]()
		if per > 0 {
			s.req.Percent = float64(total-k) * 100 / float64(total)
			s.inst.mu.Unlock()
			time.Sleep(per)
			s.inst.mu.Lock()
		}
	}
	s.rolling = false
	s.release()
}

// undo says how to take back what was just done; without a transaction it stands.
func (x *exec) undo(f func()) {
	if x.s.tx != nil {
		x.s.tx.undo = append(x.s.tx.undo, f)
		x.wrote(x.s.DB, 120)
	}
}

func (x *exec) wrote(d *Database, bytes int64) {
	if tx := x.s.tx; tx != nil {
		tx.bytes[d.ID] += bytes
		tx.count[d.ID]++
	}
}
