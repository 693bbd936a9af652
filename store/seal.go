package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/tink-crypto/tink-go/v2/aead"
	"github.com/tink-crypto/tink-go/v2/insecurecleartextkeyset"
	"github.com/tink-crypto/tink-go/v2/keyset"
	"github.com/tink-crypto/tink-go/v2/tink"

	"example.com/genarch/core/secret"
)

// openKey reads the key that seals secrets. A missing one is made only while
// nothing is sealed: otherwise what is sealed could never be opened again.
func (s *Store) openKey(ctx context.Context, file string) (tink.AEAD, error) {
	text, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		var sealed int64
		if err := s.db.WithContext(ctx).Table("servers").Count(&sealed).Error; err != nil {
			return nil, err
		}
		if sealed > 0 {
			return nil, fmt.Errorf("the key file %s is missing, and %d servers' secrets are sealed with it: put it back from where it was saved", file, sealed)
		}
		if text, err = makeKey(file); err != nil {
			return nil, err
		}
	}
	if err != nil {
		return nil, fmt.Errorf("the key file: %w", err)
	}
	if info, err := os.Stat(file); err == nil && info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("the key file %s can be read by others (mode %o): chmod 600 %s", file, info.Mode().Perm(), file)
	}
	handle, err := insecurecleartextkeyset.Read(keyset.NewJSONReader(bytes.NewReader(text)))
	if err != nil {
		return nil, fmt.Errorf("the key file %s cannot be read: %w", file, err)
	}
	return aead.New(handle)
}

// makeKey writes a new keyset. Its file is its only protection, so it is made
// with mode 0600 and in one go.
func makeKey(file string) ([]byte, error) {
	handle, err := keyset.NewHandle(aead.AES256GCMKeyTemplate())
	if err != nil {
		return nil, err
	}
	var text bytes.Buffer
	if err := insecurecleartextkeyset.Write(handle, keyset.NewJSONWriter(&text)); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, err
	}
	fresh := file + ".new"
	if err := os.WriteFile(fresh, text.Bytes(), 0o600); err != nil {
		return nil, err
	}
	return text.Bytes(), os.Rename(fresh, file)
}

// seal encrypts a server's secret, bound to the server's name: moved to another
// row it cannot be opened.
func (s *Store) seal(server string, t secret.Text) ([]byte, error) {
	return s.aead.Encrypt([]byte(t.Reveal()), []byte("server/"+server))
}

func (s *Store) open(server string, sealed []byte) (secret.Text, error) {
	clear, err := s.aead.Decrypt(sealed, []byte("server/"+server))
	if err != nil {
		return secret.Text{}, fmt.Errorf("the secret of %s cannot be opened with this key file: give it again with genarch server edit %s --secret-file FILE", server, server)
	}
	return secret.New(string(clear)), nil
}
