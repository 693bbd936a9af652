package store

import (
	"context"
	"fmt"
	"sync/atomic"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"example.com/genarch/core/journal"
	"example.com/genarch/core/record"
)

type journalRow struct {
	Seq      uint64 `gorm:"primaryKey;autoIncrement:false"`
	At       time.Time
	Operator string
	Action   string
	Subject  string
	ChangeID uint64
	Detail   string
	TokenID  uint64
	PrevHash string
	Hash     string
}

func (journalRow) TableName() string { return "journal" }

type headRow struct {
	ID   int
	Seq  uint64
	Hash string
}

func (headRow) TableName() string { return "journal_head" }

// appendJournal adds entries within a transaction. The head row is locked, so
// entries follow each other whoever writes them.
func (s *Store) appendJournal(tx *gorm.DB, entries ...journal.Entry) error {
	if len(entries) == 0 {
		return nil
	}
	var head headRow
	if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Take(&head, 1).Error; err != nil {
		return err
	}
	prev := journal.Entry{Seq: head.Seq, Hash: head.Hash}
	var err error
	rows := make([]journalRow, len(entries))
	for i, e := range entries {
		if e.At.IsZero() {
			e.At = tx.NowFunc()
		}
		if e.Token == 0 {
			e.Token = record.TokenOf(tx.Statement.Context)
		}
		if prev, err = e.Next(prev, s.current()); err != nil {
			return err
		}
		rows[i] = journalRow{prev.Seq, prev.At, prev.Operator, prev.Action, prev.Subject, prev.Change, prev.Detail,
			prev.Token, prev.Prev, prev.Hash}
	}
	if err := tx.Create(&rows).Error; err != nil {
		return err
	}
	if err := tx.Model(&headRow{}).Where("id = 1").Updates(map[string]any{"seq": prev.Seq, "hash": prev.Hash}).
		Error; err != nil {
		return err
	}
	s.written.note(prev.Seq)
	return nil
}

// highest is the number of the last entry that this process has seen written: it
// can only grow, so a journal that ends before it was cut.
type highest struct{ seq atomic.Uint64 }

func (h *highest) note(seq uint64) {
	for {
		old := h.seq.Load()
		if seq <= old || h.seq.CompareAndSwap(old, seq) {
			return
		}
	}
}

// Checkpoint seals what the last entry is now.
func (s *Store) Checkpoint(ctx context.Context) (journal.Checkpoint, error) {
	var head headRow
	if err := s.db.WithContext(ctx).Take(&head, 1).Error; err != nil {
		return journal.Checkpoint{}, translate(err)
	}
	return journal.Checkpoint{Seq: head.Seq, Hash: head.Hash, At: s.db.NowFunc()}.Sign(s.current())
}

// Expect has every later check of the journal look for a checkpoint that was kept
// outside the store.
func (s *Store) Expect(text string) error {
	c, err := journal.ParseCheckpoint(text, s.current())
	if err == nil {
		s.expected.Store(&c)
	}
	return err
}

// resealJournal seals every entry anew, in one transaction. It is for a journal
// that was chained without a key until now; from then on it never happens again.
func (s *Store) resealJournal(ctx context.Context) error {
	var head headRow
	if err := s.db.WithContext(ctx).Take(&head, 1).Error; err != nil {
		return translate(err)
	}
	if head.Seq == 0 {
		return nil
	}
	if err := s.db.WithContext(ctx).Exec("DROP TRIGGER IF EXISTS journal_keep").Error; err != nil {
		return fmt.Errorf("the journal is to be sealed with a key, once: %w", err)
	}
	defer s.db.WithContext(context.WithoutCancel(ctx)).
		Exec("CREATE TRIGGER IF NOT EXISTS journal_keep BEFORE UPDATE ON journal FOR EACH ROW SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'the journal is append-only'")
	return s.update(ctx, func(tx *gorm.DB) error {
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Take(&head, 1).Error; err != nil {
			return err
		}
		var prev journal.Entry
		for prev.Seq < head.Seq {
			var rows []journalRow
			if err := tx.Where("seq > ?", prev.Seq).Order("seq").Limit(verifyBatch).Find(&rows).Error; err != nil ||
				len(rows) == 0 {
				return err
			}
			for _, e := range entriesFrom(rows) {
				next, err := e.Next(prev, s.current())
				if err != nil {
					return err
				}
				next.Seq = e.Seq
				if err := tx.Model(&journalRow{}).Where("seq = ?", e.Seq).
					UpdateColumns(map[string]any{"prev_hash": next.Prev, "hash": next.Hash}).Error; err != nil {
					return err
				}
				prev = next
			}
		}
		return tx.Model(&headRow{}).Where("id = 1").Updates(map[string]any{"hash": prev.Hash}).Error
	})
}

// Append adds entries to the journal.
func (s *Store) Append(ctx context.Context, entries ...journal.Entry) error {
	return s.update(ctx, func(tx *gorm.DB) error { return s.appendJournal(tx, entries...) })
}

// Journal reads entries, the newest first unless After is given.
func (s *Store) Journal(ctx context.Context, f journal.Filter) ([]journal.Entry, error) {
	q := s.db.WithContext(ctx).Limit(f.Limit)
	if f.Change > 0 {
		q = q.Where("change_id = ?", f.Change)
	}
	if f.Operator != "" {
		q = q.Where("operator = ?", f.Operator)
	}
	if f.Action != "" {
		q = q.Where("(action = ? OR action LIKE ?)", f.Action, beneath(f.Action, "."))
	}
	if f.Subject != "" {
		q = q.Where("(subject = ? OR subject LIKE ?)", f.Subject, beneath(f.Subject, "/"))
	}
	q = within(q, "at", f.Since, f.Until)
	if f.Before > 0 {
		q = q.Where("seq < ?", f.Before)
	}
	if f.After > 0 {
		q = q.Where("seq > ?", f.After).Order("seq")
	} else {
		q = q.Order("seq DESC")
	}
	var rows []journalRow
	err := q.Find(&rows).Error
	return entriesFrom(rows), translate(err)
}

func entriesFrom(rows []journalRow) []journal.Entry {
	out := make([]journal.Entry, len(rows))
	for i, r := range rows {
		out[i] = journal.Entry{Seq: r.Seq, At: r.At, Operator: r.Operator, Action: r.Action, Subject: r.Subject,
			Change: r.ChangeID, Detail: r.Detail, Token: r.TokenID, Prev: r.PrevHash, Hash: r.Hash}
	}
	return out
}

// verifyBatch is how many entries are checked at a time.
const verifyBatch = 1000

// VerifyJournal walks the whole chain and says how many entries it has and
// where it is broken, the end included: the head must be the last entry, and no
// entry may be missing that this process has written. since is the text of a
// checkpoint that was kept elsewhere; its entry must still be there. Empty: none.
func (s *Store) VerifyJournal(ctx context.Context, since string) (count uint64, broken, err error) {
	var head headRow
	var kept journal.Checkpoint
	if since != "" {
		if kept, err = journal.ParseCheckpoint(since, s.current()); err != nil {
			return 0, nil, err
		}
	}
	written := s.written.seq.Load()
	known := s.expected.Load()
	if err := s.db.WithContext(ctx).Take(&head, 1).Error; err != nil {
		return 0, nil, translate(err)
	}
	var prev journal.Entry
	for prev.Seq < head.Seq {
		var rows []journalRow
		if err := s.db.WithContext(ctx).Where("seq > ? AND seq <= ?", prev.Seq, head.Seq).Order("seq").
			Limit(verifyBatch).Find(&rows).Error; err != nil {
			return count, nil, translate(err)
		}
		entries := entriesFrom(rows)
		if len(entries) == 0 {
			break
		}
		if broken := journal.Check(prev, entries, s.current()); broken != nil {
			return count, broken, nil
		}
		for _, c := range []*journal.Checkpoint{&kept, known} {
			if c == nil || c.Seq <= prev.Seq || c.Seq > entries[len(entries)-1].Seq {
				continue
			}
			if entries[c.Seq-prev.Seq-1].Hash != c.Hash {
				return count, journal.ErrNotReached(*c), nil
			}
		}
		prev = entries[len(entries)-1]
		count += uint64(len(entries))
	}
	switch {
	case prev.Seq != head.Seq, prev.Hash != head.Hash, head.Seq < written:
		return count, journal.ErrCutShort, nil
	case head.Seq < kept.Seq:
		return count, journal.ErrNotReached(kept), nil
	case known != nil && head.Seq < known.Seq:
		return count, journal.ErrNotReached(*known), nil
	}
	return count, nil, nil
}
