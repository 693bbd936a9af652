package store

import (
	"context"
	"fmt"

	"gorm.io/gorm"

	"example.com/genarch/core/journal"
	"example.com/genarch/core/record"
	"example.com/genarch/core/secret"
)

// boundServer is what a server's secret is sealed to: moved to another row it
// cannot be opened.
func boundServer(server string) []byte { return []byte("server/" + server) }

// boundChange is what a change's secret is sealed to.
func boundChange(id uint64, account string) []byte {
	return fmt.Appendf(nil, "change/%d/%s", id, account)
}

func (s *Store) seal(t secret.Text, to []byte) ([]byte, error) {
	return s.current().aead.Encrypt([]byte(t.Reveal()), to)
}

// unseal opens what seal made. The error says what to do about one that cannot.
func (s *Store) unseal(sealed, to []byte, text string, args ...any) (secret.Text, error) {
	k := s.current()
	clear, err := k.aead.Decrypt(sealed, to)
	if err != nil { // two keys may have been made within one tick of the clock of files
		clear, err = s.reread(k).aead.Decrypt(sealed, to)
	}
	if err != nil {
		return secret.Text{}, fmt.Errorf("%w: %s", record.ErrSealed, fmt.Sprintf(text, args...))
	}
	return secret.New(string(clear)), nil
}

// RotateKey puts a new key into the key file and seals every secret anew with it.
// It can be stopped anywhere and done again: at each moment the file opens
// everything. A service that runs meanwhile reads the file again by itself.
func (s *Store) RotateKey(ctx context.Context, entry journal.Entry) (secrets int, err error) {
	next, err := s.current().renewed()
	if err != nil {
		return 0, err
	}
	if err := next.write(); err != nil {
		return 0, err
	}
	s.keys.Store(next)
	err = s.update(ctx, func(tx *gorm.DB) error {
		secrets = 0
		var servers []serverRow
		if err := tx.Select("id", "name", "sealed_secret").Find(&servers).Error; err != nil {
			return err
		}
		for _, r := range servers {
			fresh, err := s.reseal(r.SealedSecret, boundServer(r.Name))
			if err != nil {
				return fmt.Errorf("the secret of server %s: %w", r.Name, err)
			}
			if err := tx.Model(&serverRow{}).Where("id = ?", r.ID).UpdateColumn("sealed_secret", fresh).
				Error; err != nil {
				return err
			}
		}
		var kept []secretRow
		if err := tx.Find(&kept).Error; err != nil {
			return err
		}
		for _, r := range kept {
			fresh, err := s.reseal(r.Sealed, boundChange(r.ChangeID, r.Account))
			if err != nil {
				return fmt.Errorf("a password of change %d: %w", r.ChangeID, err)
			}
			if err := tx.Model(&secretRow{}).Where("change_id = ? AND account = ?", r.ChangeID, r.Account).
				UpdateColumn("sealed", fresh).Error; err != nil {
				return err
			}
		}
		var files []fileRow
		if err := tx.Select("id", "sealed_key").Find(&files).Error; err != nil {
			return err
		}
		for _, r := range files {
			fresh, err := s.reseal(r.SealedKey, boundFile(r.ID))
			if err != nil {
				return fmt.Errorf("the key of file %s: %w", r.ID, err)
			}
			if err := tx.Model(&fileRow{}).Where("id = ?", r.ID).UpdateColumn("sealed_key", fresh).Error; err != nil {
				return err
			}
		}
		secrets = len(servers) + len(kept) + len(files)
		return s.appendJournal(tx, entry)
	})
	return secrets, err
}

// reseal opens with any key and seals with the newest.
func (s *Store) reseal(sealed, to []byte) ([]byte, error) {
	clear, err := s.current().aead.Decrypt(sealed, to)
	if err != nil {
		return nil, fmt.Errorf("%w with this key file", record.ErrSealed)
	}
	return s.current().aead.Encrypt(clear, to)
}
