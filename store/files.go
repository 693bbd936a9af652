package store

import (
	"context"
	"time"

	"gorm.io/gorm"

	"example.com/genarch/core/journal"
	"example.com/genarch/core/record"
	"example.com/genarch/core/secret"
)

type fileRow struct {
	ID        string `gorm:"primaryKey"`
	Kind      string
	Server    string
	Subject   string
	Operator  string
	Size      int64
	About     string
	SealedKey []byte
	CreatedAt time.Time
	KeepUntil *time.Time
}

func (fileRow) TableName() string { return "files" }

func fileFrom(r fileRow) record.File {
	f := record.File{ID: r.ID, Kind: record.FileKind(r.Kind), Server: r.Server, Subject: r.Subject,
		Operator: r.Operator, Size: r.Size, About: r.About, Created: r.CreatedAt}
	if r.KeepUntil != nil {
		f.Until = *r.KeepUntil
	}
	return f
}

// boundFile is what the key of a file is sealed to.
func boundFile(id string) []byte { return []byte("file/" + id) }

// maxFiles bounds the list of files.
const maxFiles = 1000

// AddFile notes a file, with the key that opens it. Entries go into the journal with it.
func (s *Store) AddFile(ctx context.Context, f record.File, key secret.Text, entries ...journal.Entry) error {
	sealed, err := s.seal(key, boundFile(f.ID))
	if err != nil {
		return err
	}
	row := fileRow{ID: f.ID, Kind: string(f.Kind), Server: f.Server, Subject: f.Subject, Operator: f.Operator,
		Size: f.Size, About: f.About, SealedKey: sealed, CreatedAt: f.Created}
	if !f.Until.IsZero() {
		row.KeepUntil = &f.Until
	}
	return s.update(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		return s.appendJournal(tx, entries...)
	})
}

// File reads what is known of a file; [record.ErrNotFound] if there is none.
func (s *Store) File(ctx context.Context, id string) (record.File, error) {
	var row fileRow
	err := s.db.WithContext(ctx).Omit("sealed_key").Where("id = ?", id).Take(&row).Error
	return fileFrom(row), translate(err)
}

// FileKey reads the key that opens a file.
func (s *Store) FileKey(ctx context.Context, id string) (secret.Text, error) {
	var row fileRow
	if err := s.db.WithContext(ctx).Select("id", "sealed_key").Where("id = ?", id).Take(&row).Error; err != nil {
		return secret.Text{}, translate(err)
	}
	return s.unseal(row.SealedKey, boundFile(id), "the key of file %s", id)
}

// Files lists the files of a kind, the newest first.
func (s *Store) Files(ctx context.Context, kind record.FileKind) ([]record.File, error) {
	var rows []fileRow
	err := s.db.WithContext(ctx).Omit("sealed_key").Where("kind = ?", kind).Order("created_at DESC, id").
		Limit(maxFiles).Find(&rows).Error
	out := make([]record.File, len(rows))
	for i, r := range rows {
		out[i] = fileFrom(r)
	}
	return out, translate(err)
}

// FilesOver lists the files of a kind whose time is over, the longest first.
func (s *Store) FilesOver(ctx context.Context, kind record.FileKind, now time.Time) ([]record.File, error) {
	var rows []fileRow
	err := s.db.WithContext(ctx).Omit("sealed_key").Where("kind = ? AND keep_until <= ?", kind, now.UTC()).
		Order("keep_until, id").Limit(maxFiles).Find(&rows).Error
	out := make([]record.File, len(rows))
	for i, r := range rows {
		out[i] = fileFrom(r)
	}
	return out, translate(err)
}

// RemoveFile forgets a file. Entries are written only if there was one.
func (s *Store) RemoveFile(ctx context.Context, id string, entries ...journal.Entry) error {
	return s.update(ctx, func(tx *gorm.DB) error {
		res := tx.Where("id = ?", id).Delete(&fileRow{})
		if res.Error != nil {
			return res.Error
		}
		if res.RowsAffected == 0 {
			return record.ErrNotFound
		}
		return s.appendJournal(tx, entries...)
	})
}
