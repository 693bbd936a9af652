package store

import (
	"context"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"example.com/genarch/core/journal"
)

type journalRow struct {
	Seq      uint64 `gorm:"primaryKey;autoIncrement:false"`
	At       time.Time
	Operator string
	Action   string
	Subject  string
	ChangeID uint64
	Detail   string
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
func appendJournal(tx *gorm.DB, entries ...journal.Entry) error {
	if len(entries) == 0 {
		return nil
	}
	var head headRow
	if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Take(&head, 1).Error; err != nil {
		return err
	}
	prev := journal.Entry{Seq: head.Seq, Hash: head.Hash}
	rows := make([]journalRow, len(entries))
	for i, e := range entries {
		if e.At.IsZero() {
			e.At = tx.NowFunc()
		}
		prev = e.Next(prev)
		rows[i] = journalRow{prev.Seq, prev.At, prev.Operator, prev.Action, prev.Subject, prev.Change, prev.Detail, prev.Prev, prev.Hash}
	}
	if err := tx.Create(&rows).Error; err != nil {
		return err
	}
	return tx.Model(&headRow{}).Where("id = 1").Updates(map[string]any{"seq": prev.Seq, "hash": prev.Hash}).Error
}

// Append adds entries to the journal.
func (s *Store) Append(ctx context.Context, entries ...journal.Entry) error {
	return s.update(ctx, func(tx *gorm.DB) error { return appendJournal(tx, entries...) })
}

// Journal reads entries, the newest first unless After is given.
func (s *Store) Journal(ctx context.Context, f journal.Filter) ([]journal.Entry, error) {
	q := s.db.WithContext(ctx).Limit(f.Limit)
	if f.Change > 0 {
		q = q.Where("change_id = ?", f.Change)
	}
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
			Change: r.ChangeID, Detail: r.Detail, Prev: r.PrevHash, Hash: r.Hash}
	}
	return out
}

// verifyBatch is how many entries are checked at a time.
const verifyBatch = 1000

// VerifyJournal walks the whole chain and says how many entries it has and
// where it is broken, the end included: the head must be the last entry.
func (s *Store) VerifyJournal(ctx context.Context) (count uint64, broken, err error) {
	var head headRow
	if err := s.db.WithContext(ctx).Take(&head, 1).Error; err != nil {
		return 0, nil, translate(err)
	}
	var prev journal.Entry
	for prev.Seq < head.Seq {
		var rows []journalRow
		if err := s.db.WithContext(ctx).Where("seq > ? AND seq <= ?", prev.Seq, head.Seq).Order("seq").Limit(verifyBatch).Find(&rows).Error; err != nil {
			return count, nil, translate(err)
		}
		entries := entriesFrom(rows)
		if len(entries) == 0 {
			break
		}
		if broken := journal.Check(prev, entries); broken != nil {
			return count, broken, nil
		}
		prev = entries[len(entries)-1]
		count += uint64(len(entries))
	}
	if prev.Seq != head.Seq || prev.Hash != head.Hash {
		return count, journal.ErrCutShort, nil
	}
	return count, nil, nil
}
