package store

import (
	"context"
	"time"

	"gorm.io/gorm"

	"example.com/genarch/core/journal"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/record"
)

type operatorRow struct {
	Name         string `gorm:"primaryKey"`
	PasswordHash string
	Remits       []policy.Remit `gorm:"serializer:json"`
	Program      bool
	Disabled     bool
	CreatedAt    time.Time
}

func (operatorRow) TableName() string { return "operators" }

func operatorFrom(r operatorRow) policy.Operator {
	return policy.Operator{Name: r.Name, Remits: r.Remits, Program: r.Program, Disabled: r.Disabled, Created: r.CreatedAt}
}

// AddOperator makes an operator; hash is that of the password, "" for a program.
func (s *Store) AddOperator(ctx context.Context, o policy.Operator, hash string, entry journal.Entry) error {
	return s.update(ctx, func(tx *gorm.DB) error {
		row := operatorRow{Name: o.Name, PasswordHash: hash, Remits: o.Remits, Program: o.Program}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		return appendJournal(tx, entry)
	})
}

// Operators lists all operators by name.
func (s *Store) Operators(ctx context.Context) ([]policy.Operator, error) {
	var rows []operatorRow
	err := s.db.WithContext(ctx).Order("name").Limit(5000).Find(&rows).Error
	out := make([]policy.Operator, len(rows))
	for i, r := range rows {
		out[i] = operatorFrom(r)
	}
	return out, translate(err)
}

// Operator reads one operator and the hash of the password.
func (s *Store) Operator(ctx context.Context, name string) (policy.Operator, string, error) {
	var row operatorRow
	err := s.db.WithContext(ctx).Where("name = ?", name).Take(&row).Error
	return operatorFrom(row), row.PasswordHash, translate(err)
}

// UpdateOperator writes remits and the disabled mark; with a hash also the
// password. Disabling and a new password end all console sessions.
func (s *Store) UpdateOperator(ctx context.Context, o policy.Operator, hash string, entry journal.Entry) error {
	return s.update(ctx, func(tx *gorm.DB) error {
		columns := []string{"Remits", "Disabled"}
		if hash != "" {
			columns = append(columns, "PasswordHash")
		}
		res := tx.Model(&operatorRow{}).Select(columns).Where("name = ?", o.Name).Updates(&operatorRow{Remits: o.Remits, Disabled: o.Disabled, PasswordHash: hash})
		if res.Error != nil {
			return res.Error
		}
		if res.RowsAffected == 0 {
			return record.ErrNotFound
		}
		if o.Disabled || hash != "" {
			if err := tx.Where("operator = ?", o.Name).Delete(&sessionRow{}).Error; err != nil {
				return err
			}
		}
		return appendJournal(tx, entry)
	})
}

type tokenRow struct {
	ID         uint64
	Operator   string
	Title      string
	Hash       string
	CreatedAt  time.Time
	ExpiresAt  *time.Time
	LastUsedAt *time.Time
	RevokedAt  *time.Time
}

func (tokenRow) TableName() string { return "tokens" }

func tokenFrom(r tokenRow) record.Token {
	return record.Token{ID: r.ID, Operator: r.Operator, Title: r.Title, Created: r.CreatedAt,
		Expires: timeOf(r.ExpiresAt), LastUsed: timeOf(r.LastUsedAt), Revoked: timeOf(r.RevokedAt)}
}

// AddToken keeps the hash of a new token.
func (s *Store) AddToken(ctx context.Context, t record.Token, hash string, entry journal.Entry) (record.Token, error) {
	row := tokenRow{Operator: t.Operator, Title: t.Title, Hash: hash, ExpiresAt: timePtr(t.Expires)}
	err := s.update(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		return appendJournal(tx, entry)
	})
	return tokenFrom(row), err
}

// Tokens lists tokens, the newest first; of one operator or, with "", of all.
func (s *Store) Tokens(ctx context.Context, operator string) ([]record.Token, error) {
	q := s.db.WithContext(ctx).Order("id DESC").Limit(1000)
	if operator != "" {
		q = q.Where("operator = ?", operator)
	}
	var rows []tokenRow
	err := q.Find(&rows).Error
	out := make([]record.Token, len(rows))
	for i, r := range rows {
		out[i] = tokenFrom(r)
	}
	return out, translate(err)
}

// usedEvery is how exactly the last use of a token is kept: writing it at every
// call would cost a write for every read.
const usedEvery = time.Minute

// TokenByHash finds a token and its operator, and notes that it was used.
func (s *Store) TokenByHash(ctx context.Context, hash string) (record.Token, policy.Operator, error) {
	var row struct {
		Token    tokenRow       `gorm:"embedded"`
		Remits   []policy.Remit `gorm:"serializer:json"`
		Program  bool
		Disabled bool
	}
	err := s.db.WithContext(ctx).Table("tokens").Select("tokens.*, operators.remits, operators.program, operators.disabled").
		Joins("JOIN operators ON operators.name = tokens.operator").Where("hash = ?", hash).Take(&row).Error
	if err != nil {
		return record.Token{}, policy.Operator{}, translate(err)
	}
	if now := s.db.NowFunc(); now.Sub(timeOf(row.Token.LastUsedAt)) > usedEvery {
		// Not knowing the last use is better than refusing the call.
		_ = s.db.WithContext(ctx).Model(&tokenRow{}).Where("id = ?", row.Token.ID).Update("last_used_at", now).Error
	}
	return tokenFrom(row.Token), policy.Operator{Name: row.Token.Operator, Remits: row.Remits, Program: row.Program, Disabled: row.Disabled}, nil
}

// RevokeToken ends a token for good.
func (s *Store) RevokeToken(ctx context.Context, id uint64, entry journal.Entry) error {
	return s.update(ctx, func(tx *gorm.DB) error {
		res := tx.Model(&tokenRow{}).Where("id = ? AND revoked_at IS NULL", id).Update("revoked_at", tx.NowFunc())
		if res.Error != nil {
			return res.Error
		}
		if res.RowsAffected == 0 {
			return record.ErrNotFound
		}
		return appendJournal(tx, entry)
	})
}

type sessionRow struct {
	Hash      string `gorm:"primaryKey"`
	Operator  string
	CSRF      string `gorm:"column:csrf"`
	CreatedAt time.Time
	ExpiresAt time.Time
}

func (sessionRow) TableName() string { return "console_sessions" }

// AddSession keeps a console session by the hash of its cookie, and drops those
// that have run out.
func (s *Store) AddSession(ctx context.Context, x record.Session, hash string, entry journal.Entry) error {
	return s.update(ctx, func(tx *gorm.DB) error {
		if err := tx.Where("expires_at < ?", tx.NowFunc()).Delete(&sessionRow{}).Error; err != nil {
			return err
		}
		if err := tx.Create(&sessionRow{Hash: hash, Operator: x.Operator, CSRF: x.CSRF, ExpiresAt: x.Expires}).Error; err != nil {
			return err
		}
		return appendJournal(tx, entry)
	})
}

// SessionByHash finds a console session that has not run out, and its operator.
func (s *Store) SessionByHash(ctx context.Context, hash string) (record.Session, policy.Operator, error) {
	var row struct {
		Session  sessionRow     `gorm:"embedded"`
		Remits   []policy.Remit `gorm:"serializer:json"`
		Disabled bool
	}
	err := s.db.WithContext(ctx).Table("console_sessions").Select("console_sessions.*, operators.remits, operators.disabled").
		Joins("JOIN operators ON operators.name = console_sessions.operator").
		Where("hash = ? AND expires_at > ?", hash, s.db.NowFunc()).Take(&row).Error
	if err != nil {
		return record.Session{}, policy.Operator{}, translate(err)
	}
	return record.Session{Operator: row.Session.Operator, CSRF: row.Session.CSRF, Created: row.Session.CreatedAt, Expires: row.Session.ExpiresAt},
		policy.Operator{Name: row.Session.Operator, Remits: row.Remits, Disabled: row.Disabled}, nil
}

// EndSession signs out.
func (s *Store) EndSession(ctx context.Context, hash string, entry journal.Entry) error {
	return s.update(ctx, func(tx *gorm.DB) error {
		if err := tx.Where("hash = ?", hash).Delete(&sessionRow{}).Error; err != nil {
			return err
		}
		return appendJournal(tx, entry)
	})
}
