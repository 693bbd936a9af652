package store

import (
	"context"
	"time"

	"gorm.io/gorm"

	"example.com/genarch/core/change"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/record"
)

type secretRow struct {
	ChangeID  uint64 `gorm:"primaryKey;autoIncrement:false"`
	Account   string `gorm:"primaryKey"`
	Given     bool
	Sealed    []byte
	KeepUntil time.Time
}

func (secretRow) TableName() string { return "change_secrets" }

// addSecrets seals the passwords of a new change.
func (s *Store) addSecrets(tx *gorm.DB, c change.Change) error {
	for _, k := range c.Secrets {
		sealed, err := s.seal(k.Text, boundChange(c.ID, k.Account))
		if err != nil {
			return err
		}
		if err := tx.Create(&secretRow{c.ID, k.Account, k.Given, sealed, tx.NowFunc().Add(policy.SecretLife)}).
			Error; err != nil {
			return err
		}
	}
	return nil
}

// Secrets opens the passwords that a change needs. Those that are not kept any
// more are not in the answer.
func (s *Store) Secrets(ctx context.Context, id uint64) ([]change.Secret, error) {
	var rows []secretRow
	if err := s.db.WithContext(ctx).Where("change_id = ?", id).Order("account").Find(&rows).Error; err != nil {
		return nil, translate(err)
	}
	return s.openSecrets(rows)
}

func (s *Store) openSecrets(rows []secretRow) ([]change.Secret, error) {
	out := make([]change.Secret, len(rows))
	for i, r := range rows {
		text, err := s.unseal(r.Sealed, boundChange(r.ChangeID, r.Account), "the password of %s; set another one",
			r.Account)
		if err != nil {
			return nil, err
		}
		out[i] = change.Secret{Account: r.Account, Given: r.Given, Text: text}
	}
	return out, nil
}

// Kept lists the accounts whose generated passwords can still be shown.
func (s *Store) Kept(ctx context.Context, id uint64) ([]string, error) {
	var out []string
	err := s.db.WithContext(ctx).Model(&secretRow{}).Where("change_id = ? AND NOT given", id).Order("account").
		Pluck("account", &out).Error
	return out, translate(err)
}

// TakeSecrets opens the generated passwords of a change and forgets them, in one
// transaction with the journal's entry: they are shown once. ErrNotFound: there
// is nothing (any more) to be shown.
func (s *Store) TakeSecrets(ctx context.Context, id uint64, entry journal.Entry) ([]change.Secret, error) {
	var out []change.Secret
	err := s.update(ctx, func(tx *gorm.DB) error {
		var rows []secretRow
		if err := tx.Where("change_id = ? AND NOT given", id).Order("account").Find(&rows).Error; err != nil {
			return err
		}
		if len(rows) == 0 {
			return record.ErrNotFound
		}
		var err error
		if out, err = s.openSecrets(rows); err != nil {
			return err
		}
		res := tx.Where("change_id = ? AND NOT given", id).Delete(&secretRow{})
		if res.Error == nil && res.RowsAffected != int64(len(rows)) {
			return record.ErrStale // somebody else took them
		}
		if res.Error != nil {
			return res.Error
		}
		return s.appendJournal(tx, entry)
	})
	return out, err
}

// forgetSecrets drops what a change that has ended does not need: everything,
// or, when it was done, the passwords that the operator chose.
func forgetSecrets(tx *gorm.DB, c change.Change) error {
	if !c.State.Ended() || len(c.Intent.Secrets()) == 0 {
		return nil
	}
	q := tx.Where("change_id = ?", c.ID)
	if c.State == change.Done {
		q = q.Where("given")
	}
	return q.Delete(&secretRow{}).Error
}

// ForgetSecrets drops the passwords that nobody asked for in time.
func (s *Store) ForgetSecrets(ctx context.Context) error {
	return translate(s.db.WithContext(ctx).Where("keep_until < ?", s.db.NowFunc()).Delete(&secretRow{}).Error)
}
