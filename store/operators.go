package store

import (
	"context"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"example.com/genarch/core/journal"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/record"
)

type operatorRow struct {
	Name         string `gorm:"primaryKey"`
	PasswordHash string
	Permissions  []policy.Permission `gorm:"serializer:json"`
	Program      bool
	Disabled     bool
	CreatedAt    time.Time
}

func (operatorRow) TableName() string { return "operators" }

func operatorFrom(r operatorRow) policy.Operator {
	return policy.Operator{Name: r.Name, Permissions: r.Permissions, Program: r.Program, Disabled: r.Disabled,
		Created: r.CreatedAt}
}

// AddOperator makes an operator; hash is that of the password, "" for a program.
func (s *Store) AddOperator(ctx context.Context, o policy.Operator, hash string, entry journal.Entry) error {
	return s.update(ctx, func(tx *gorm.DB) error {
		row := operatorRow{Name: o.Name, PasswordHash: hash, Permissions: o.Permissions, Program: o.Program}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		return s.appendJournal(tx, entry)
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

// UpdateOperator writes permissions and the disabled mark; with a hash also the
// password. Disabling and a new password end all console sessions and every token
// that was got by signing in; disabling ends all other tokens too, so that none
// takes effect again. At least one enabled person who may administer must remain
// ([record.ErrLastAdmin]), whoever else alters operators at the same moment.
// keep is the hash of a console session that stays. remaining counts the tokens
// of programs that are still good.
//
// Long: one transaction.
func (s *Store) UpdateOperator(ctx context.Context, o policy.Operator, hash, keep string,
	entry journal.Entry) (remaining int, err error) {
	err = s.update(ctx, func(tx *gorm.DB) error {
		var all []operatorRow
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Order("name").Find(&all).Error; err != nil {
			return err
		}
		found, hadAdmin, hasAdmin := false, false, false
		for _, r := range all {
			now := operatorFrom(r)
			hadAdmin = hadAdmin || now.May(policy.Admin) && r.PasswordHash != ""
			if r.Name == o.Name {
				found, now = true, o
				if hash != "" {
					r.PasswordHash = hash
				}
			}
			hasAdmin = hasAdmin || now.May(policy.Admin) && r.PasswordHash != ""
		}
		if !found {
			return record.ErrNotFound
		}
		if hadAdmin && !hasAdmin {
			return record.ErrLastAdmin
		}
		columns := []string{"Permissions", "Disabled"}
		if hash != "" {
			columns = append(columns, "PasswordHash")
		}
		if err := tx.Model(&operatorRow{}).Select(columns).Where("name = ?", o.Name).
			Updates(&operatorRow{Permissions: o.Permissions, Disabled: o.Disabled, PasswordHash: hash}).
			Error; err != nil {
			return err
		}
		if o.Disabled || hash != "" {
			if err := tx.Where("operator = ? AND hash <> ?", o.Name, keep).Delete(&sessionRow{}).Error; err != nil {
				return err
			}
			tokens := tx.Model(&tokenRow{}).Where("operator = ? AND revoked_at IS NULL", o.Name)
			if !o.Disabled {
				tokens = tokens.Where("login")
			}
			if err := tokens.Update("revoked_at", tx.NowFunc()).Error; err != nil {
				return err
			}
		}
		var n int64
		if err := tx.Model(&tokenRow{}).
			Where("operator = ? AND revoked_at IS NULL AND (expires_at IS NULL OR expires_at > ?)", o.Name,
				tx.NowFunc()).Count(&n).Error; err != nil {
			return err
		}
		remaining = int(n)
		if entry.Operator != o.Name {
			if err := tx.Create(&noticeRow{Operator: o.Name, At: tx.NowFunc(), Text: noticeText(entry, hash != "")}).
				Error; err != nil {
				return err
			}
		}
		return s.appendJournal(tx, entry)
	})
	return remaining, err
}

type noticeRow struct {
	ID       uint64
	Operator string
	At       time.Time
	Text     string
}

func (noticeRow) TableName() string { return "operator_notices" }

func noticeText(e journal.Entry, password bool) string {
	text := e.Operator + " altered your account"
	if password {
		text = e.Operator + " set another password for you"
	}
	return text
}

// Notices takes what an operator has not been told of yet, the last 20 of it.
func (s *Store) Notices(ctx context.Context, operator string) ([]record.Notice, error) {
	var rows []noticeRow
	err := s.db.WithContext(ctx).Where("operator = ?", operator).Order("id DESC").Limit(20).Find(&rows).Error
	if err != nil || len(rows) == 0 {
		return nil, translate(err)
	}
	out := make([]record.Notice, 0, len(rows))
	for _, r := range slices.Backward(rows) {
		out = append(out, record.Notice{At: r.At, Text: r.Text})
	}
	return out, translate(s.db.WithContext(ctx).Where("operator = ? AND id <= ?", operator, rows[0].ID).
		Delete(&noticeRow{}).Error)
}

// ResetOperator is the way back when nobody can sign in any more: it makes the
// operator, or enables them, with every permission and a new password.
func (s *Store) ResetOperator(ctx context.Context, name, hash string, entry journal.Entry) error {
	return s.update(ctx, func(tx *gorm.DB) error {
		row := operatorRow{Name: name, PasswordHash: hash, Permissions: policy.Permissions}
		if err := tx.Clauses(clause.OnConflict{DoUpdates: clause.AssignmentColumns([]string{"password_hash",
			"permissions", "disabled", "program"})}).Create(&row).Error; err != nil {
			return err
		}
		if err := tx.Where("operator = ?", name).Delete(&sessionRow{}).Error; err != nil {
			return err
		}
		if err := tx.Model(&tokenRow{}).Where("operator = ? AND revoked_at IS NULL", name).Update("revoked_at",
			tx.NowFunc()).Error; err != nil {
			return err
		}
		return s.appendJournal(tx, entry)
	})
}

type tokenRow struct {
	ID          uint64
	Operator    string
	Title       string
	Hash        string
	CreatedAt   time.Time
	ExpiresAt   *time.Time
	LastUsedAt  *time.Time
	RevokedAt   *time.Time
	Login       bool
	Permissions []string `gorm:"column:token_permissions;serializer:json"`
	From        []string `gorm:"column:from_networks;serializer:json"`
}

func (tokenRow) TableName() string { return "tokens" }

func tokenFrom(r tokenRow) record.Token {
	return record.Token{ID: r.ID, Operator: r.Operator, Title: r.Title, Created: r.CreatedAt,
		Expires: timeOf(r.ExpiresAt), LastUsed: timeOf(r.LastUsedAt), Revoked: timeOf(r.RevokedAt),
		Login: r.Login, Permissions: r.Permissions, From: r.From}
}

// AddToken keeps the hash of a new token.
func (s *Store) AddToken(ctx context.Context, t record.Token, hash string, entry journal.Entry) (record.Token, error) {
	row := tokenRow{Operator: t.Operator, Title: t.Title, Hash: hash, ExpiresAt: timePtr(t.Expires), Login: t.Login,
		Permissions: orEmpty(t.Permissions), From: orEmpty(t.From)}
	err := s.update(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		return s.appendJournal(tx, entry)
	})
	return tokenFrom(row), err
}

// orEmpty keeps a list that is missing from being stored as null.
func orEmpty(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
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
		Token       tokenRow            `gorm:"embedded"`
		Permissions []policy.Permission `gorm:"serializer:json"`
		Program     bool
		Disabled    bool
	}
	err := s.db.WithContext(ctx).Table("tokens").
		Select("tokens.*, operators.permissions, operators.program, operators.disabled").
		Joins("JOIN operators ON operators.name = tokens.operator").Where("hash = ?", hash).Take(&row).Error
	if err != nil {
		return record.Token{}, policy.Operator{}, translate(err)
	}
	if now := s.db.NowFunc(); now.Sub(timeOf(row.Token.LastUsedAt)) > usedEvery {
		// Not knowing the last use is better than refusing the call.
		_ = s.db.WithContext(ctx).Model(&tokenRow{}).Where("id = ?", row.Token.ID).Update("last_used_at", now).Error
	}
	return tokenFrom(row.Token), policy.Operator{Name: row.Token.Operator, Permissions: row.Permissions,
		Program: row.Program, Disabled: row.Disabled}, nil
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
		return s.appendJournal(tx, entry)
	})
}

type sessionRow struct {
	Hash      string `gorm:"primaryKey"`
	ID        uint64 `gorm:"->"`
	Operator  string
	CSRF      string `gorm:"column:csrf"`
	CreatedAt time.Time
	UsedAt    time.Time
	ExpiresAt time.Time
	Address   string
}

func (sessionRow) TableName() string { return "console_sessions" }

func sessionFrom(r sessionRow) record.Session {
	return record.Session{ID: r.ID, Operator: r.Operator, CSRF: r.CSRF, Created: r.CreatedAt, Used: r.UsedAt,
		Expires: r.ExpiresAt, Address: r.Address}
}

// AddSession keeps a console session by the hash of its cookie, and drops those
// that have run out.
func (s *Store) AddSession(ctx context.Context, x record.Session, hash string, entry journal.Entry) error {
	return s.update(ctx, func(tx *gorm.DB) error {
		now := tx.NowFunc()
		if err := tx.Where("expires_at < ? OR used_at < ?", now, now.Add(-policy.SessionIdle)).Delete(&sessionRow{}).
			Error; err != nil {
			return err
		}
		if err := tx.Create(&sessionRow{Hash: hash, Operator: x.Operator, CSRF: x.CSRF, ExpiresAt: x.Expires,
			UsedAt: now, Address: x.Address}).Error; err != nil {
			return err
		}
		return s.appendJournal(tx, entry)
	})
}

// SessionByHash finds a console session that has not run out, and its operator,
// and notes that it was used. One that nobody used for long has run out.
func (s *Store) SessionByHash(ctx context.Context, hash string) (record.Session, policy.Operator, error) {
	var row struct {
		Session     sessionRow          `gorm:"embedded"`
		Permissions []policy.Permission `gorm:"serializer:json"`
		Disabled    bool
	}
	now := s.db.NowFunc()
	err := s.db.WithContext(ctx).Table("console_sessions").
		Select("console_sessions.*, operators.permissions, operators.disabled").
		Joins("JOIN operators ON operators.name = console_sessions.operator").
		Where("hash = ? AND expires_at > ? AND used_at > ?", hash, now, now.Add(-policy.SessionIdle)).Take(&row).Error
	if err != nil {
		return record.Session{}, policy.Operator{}, translate(err)
	}
	if now.Sub(row.Session.UsedAt) > usedEvery {
		_ = s.db.WithContext(ctx).Model(&sessionRow{}).Where("hash = ?", hash).Update("used_at", now).Error
	}
	return sessionFrom(row.Session),
		policy.Operator{Name: row.Session.Operator, Permissions: row.Permissions, Disabled: row.Disabled}, nil
}

// Sessions lists the console sessions of an operator that have not run out.
func (s *Store) Sessions(ctx context.Context, operator string) ([]record.Session, error) {
	now := s.db.NowFunc()
	var rows []sessionRow
	err := s.db.WithContext(ctx).Where("operator = ? AND expires_at > ? AND used_at > ?", operator, now,
		now.Add(-policy.SessionIdle)).Order("id DESC").Limit(500).Find(&rows).Error
	out := make([]record.Session, len(rows))
	for i, r := range rows {
		out[i] = sessionFrom(r)
	}
	return out, translate(err)
}

// EndSession signs out.
func (s *Store) EndSession(ctx context.Context, hash string, entry journal.Entry) error {
	return s.endSessions(ctx, "hash = ?", []any{hash}, entry)
}

// EndOtherSessions signs an operator out everywhere but in the session with this
// hash.
func (s *Store) EndOtherSessions(ctx context.Context, operator, hash string, entry journal.Entry) error {
	return s.endSessions(ctx, "operator = ? AND hash <> ?", []any{operator, hash}, entry)
}

func (s *Store) endSessions(ctx context.Context, where string, args []any, entry journal.Entry) error {
	return s.update(ctx, func(tx *gorm.DB) error {
		if err := tx.Where(where, args...).Delete(&sessionRow{}).Error; err != nil {
			return err
		}
		return s.appendJournal(tx, entry)
	})
}
