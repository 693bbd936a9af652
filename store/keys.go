package store

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/tink-crypto/tink-go/v2/aead"
	"github.com/tink-crypto/tink-go/v2/insecurecleartextkeyset"
	"github.com/tink-crypto/tink-go/v2/keyset"
	"github.com/tink-crypto/tink-go/v2/mac"
	tinkpb "github.com/tink-crypto/tink-go/v2/proto/tink_go_proto"
	"github.com/tink-crypto/tink-go/v2/tink"
)

// keys are what the key file holds: one keyset seals secrets, the other the
// journal. Each may have several keys: the newest makes seals, all open them.
type keys struct {
	file    string
	secrets *keyset.Handle
	journal *keyset.Handle

	aead tink.AEAD
	mac  tink.MAC
	// read is the file as it was, looked at before it was read: one that is written
	// meanwhile counts as another.
	read os.FileInfo
}

// current are the keys as the file has them: it is read again when it was written
// since, which is how a service hears of a new key.
func (s *Store) current() *keys {
	k := s.keys.Load()
	info, err := os.Stat(k.file)
	if err != nil || os.SameFile(info, k.read) && info.ModTime().Equal(k.read.ModTime()) {
		return k
	}
	return s.reread(k)
}

// reread reads the keys again that were known as k.
func (s *Store) reread(k *keys) *keys {
	if next, fresh, err := readKeys(k.file); err == nil && !fresh {
		s.keys.CompareAndSwap(k, next)
		return next
	}
	return k
}

// keyFile is the form of the key file.
type keyFile struct {
	Secrets json.RawMessage `json:"secrets"`
	Journal json.RawMessage `json:"journal"`
}

// ErrKeyMissing is wrapped where the key file is missing though something is
// sealed with it.
var ErrKeyMissing = errors.New("the key file is missing")

// readKeys reads the key file. fresh: it has no key for the journal yet, being of
// an earlier version; one was made, and is to be written once it is used.
func readKeys(file string) (k *keys, fresh bool, err error) {
	info, err := os.Stat(file)
	if err != nil {
		return nil, false, err
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, false, err
	}
	if err := private(file, "the key file"); err != nil {
		return nil, false, err
	}
	var form keyFile
	if err := json.Unmarshal(text, &form); err != nil {
		return nil, false, fmt.Errorf("the key file %s cannot be read: %w", file, err)
	}
	k = &keys{file: file, read: info}
	if form.Secrets == nil { // only the one keyset, as it was at first
		form.Secrets, fresh = text, true
		if k.journal, err = keyset.NewHandle(mac.HMACSHA256Tag256KeyTemplate()); err != nil {
			return nil, false, err
		}
	} else if k.journal, err = parseKeyset(form.Journal); err != nil {
		return nil, false, fmt.Errorf("the key file %s cannot be read: %w", file, err)
	}
	if k.secrets, err = parseKeyset(form.Secrets); err != nil {
		return nil, false, fmt.Errorf("the key file %s cannot be read: %w", file, err)
	}
	return k, fresh, k.use()
}

func parseKeyset(text []byte) (*keyset.Handle, error) {
	return insecurecleartextkeyset.Read(keyset.NewJSONReader(bytes.NewReader(text)))
}

// use makes the primitives from the keysets.
func (k *keys) use() (err error) {
	if k.aead, err = aead.New(k.secrets); err != nil {
		return err
	}
	k.mac, err = mac.New(k.journal)
	return err
}

// newKeys makes both keysets and writes their file.
func newKeys(file string) (*keys, error) {
	k := &keys{file: file}
	var err error
	if k.secrets, err = keyset.NewHandle(aead.AES256GCMKeyTemplate()); err != nil {
		return nil, err
	}
	if k.journal, err = keyset.NewHandle(mac.HMACSHA256Tag256KeyTemplate()); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, err
	}
	if err := k.use(); err != nil {
		return nil, err
	}
	return k, k.write()
}

// write writes the file. It is its only protection, so it is made with mode 0600
// and in one go.
func (k *keys) write() error {
	var form keyFile
	for _, x := range []struct {
		handle *keyset.Handle
		into   *json.RawMessage
	}{{k.secrets, &form.Secrets}, {k.journal, &form.Journal}} {
		var text bytes.Buffer
		if err := insecurecleartextkeyset.Write(x.handle, keyset.NewJSONWriter(&text)); err != nil {
			return err
		}
		*x.into = text.Bytes()
	}
	text, err := json.MarshalIndent(form, "", "  ")
	if err != nil {
		return err
	}
	fresh := k.file + ".new"
	if err := writeSynced(fresh, append(text, '\n')); err != nil {
		return err
	}
	if err := os.Rename(fresh, k.file); err != nil {
		return err
	}
	k.read, err = os.Stat(k.file)
	return err
}

func writeSynced(file string, text []byte) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	return errors.Join(err, f.Sync(), f.Close())
}

// renewed has one more key in each keyset, which seals from now on. Of the keys
// for secrets only the one before stays, for a service that has not heard of the
// new one yet; those of the journal all stay, for its old entries need them.
func (k *keys) renewed() (*keys, error) {
	next := &keys{file: k.file}
	m := keyset.NewManagerFromHandle(k.secrets)
	for _, info := range k.secrets.KeysetInfo().GetKeyInfo() {
		if info.GetKeyId() != k.secrets.KeysetInfo().GetPrimaryKeyId() {
			if err := m.Delete(info.GetKeyId()); err != nil {
				return nil, err
			}
		}
	}
	var err error
	if next.secrets, err = withPrimary(m, aead.AES256GCMKeyTemplate()); err != nil {
		return nil, err
	}
	if next.journal, err = withPrimary(keyset.NewManagerFromHandle(k.journal),
		mac.HMACSHA256Tag256KeyTemplate()); err != nil {
		return nil, err
	}
	return next, next.use()
}

func withPrimary(m *keyset.Manager, template *tinkpb.KeyTemplate) (*keyset.Handle, error) {
	id, err := m.Add(template)
	if err != nil {
		return nil, err
	}
	if err := m.SetPrimary(id); err != nil {
		return nil, err
	}
	return m.Handle()
}

// Seal computes the seal of a journal's text.
func (k *keys) Seal(text string) (string, error) {
	tag, err := k.mac.ComputeMAC([]byte(text))
	return hex.EncodeToString(tag), err
}

// Sealed reports whether a seal is that of a text, under any of the keys.
func (k *keys) Sealed(text, seal string) bool {
	tag, err := hex.DecodeString(seal)
	return err == nil && k.mac.VerifyMAC(tag, []byte(text)) == nil
}

// openKeys reads the key file. A missing one is made only while nothing is sealed:
// otherwise what is sealed could never be opened, and the journal never checked.
func (s *Store) openKeys(ctx context.Context, file string) error {
	k, fresh, err := readKeys(file)
	if errors.Is(err, os.ErrNotExist) {
		var sealed, entries int64
		if err := errors.Join(s.db.WithContext(ctx).Table("servers").Count(&sealed).Error,
			s.db.WithContext(ctx).Table("journal").Count(&entries).Error); err != nil {
			return err
		}
		if sealed > 0 || entries > 0 {
			return fmt.Errorf("%w: %s. The secrets of %d servers and %d entries of the journal are sealed with it: put it back from where it was saved", ErrKeyMissing, file, sealed, entries)
		}
		if k, err = newKeys(file); err != nil {
			return err
		}
	}
	if err != nil {
		return err
	}
	s.keys.Store(k)
	if !fresh {
		return nil
	}
	// The journal was sealed without a key until now: once, it is sealed anew.
	if err := s.resealJournal(ctx); err != nil {
		return err
	}
	return k.write()
}

// private refuses a file with a secret that others can read.
func private(file, what string) error {
	info, err := os.Stat(file)
	if err != nil {
		return err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return fmt.Errorf("%s %s can be read by others (mode %o): chmod 600 %s", what, file, info.Mode().Perm(), file)
	}
	return nil
}

// Seal makes a mark under the journal's key, and Sealed knows it again: for what
// the service hands out and wants back unaltered.
func (s *Store) Seal(text string) (string, error) { return s.current().Seal("mark " + text) }

// Sealed reports whether a mark is that of a text.
func (s *Store) Sealed(text, seal string) bool { return s.current().Sealed("mark "+text, seal) }
