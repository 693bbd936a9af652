// Package spool keeps files for a while, encrypted, in a folder beside the records: each under
// a key of its own, which the records keep sealed. Without the records a file says nothing, and
// without the file its record is of no use.
package spool

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/tink-crypto/tink-go/v2/insecurecleartextkeyset"
	"github.com/tink-crypto/tink-go/v2/keyset"
	"github.com/tink-crypto/tink-go/v2/streamingaead"

	"example.com/genarch/core/journal"
	"example.com/genarch/core/record"
	"example.com/genarch/core/secret"
)

// Records is what is needed of the store.
type Records interface {
	AddFile(ctx context.Context, f record.File, key secret.Text, e ...journal.Entry) error
	File(ctx context.Context, id string) (record.File, error)
	FileKey(ctx context.Context, id string) (secret.Text, error)
	Files(ctx context.Context, kind record.FileKind) ([]record.File, error)
	FilesOver(ctx context.Context, kind record.FileKind, now time.Time) ([]record.File, error)
	RemoveFile(ctx context.Context, id string, e ...journal.Entry) error
}

// Folder is the folder with the files. It may be used by many goroutines, and by several
// services that have the same one.
type Folder struct {
	dir     string
	records Records
}

// Open makes the folder, if it is not there.
func Open(dir string, records Records) (*Folder, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	return &Folder{dir: dir, records: records}, nil
}

// suffix is that of a file that is whole, partial that of one that is being written.
const (
	suffix  = ".sealed"
	partial = ".part"
)

// NewID makes up the name of a file.
func NewID() string { return strings.ToLower(rand.Text()) }

func (f *Folder) path(id string) string { return filepath.Join(f.dir, id+suffix) }

// Put keeps a file of at most so many bytes, and what read makes of it, which gets all that
// is kept and reads it to its end. With again, what was kept is read once more before it goes on
// record, and what that makes of it is kept. The entries go into the journal with its record.
func (f *Folder) Put(ctx context.Context, file record.File, from io.Reader, most int64,
	read, again func(io.Reader) (about any, err error), entries ...journal.Entry) (record.File, error) {
	handle, err := keyset.NewHandle(streamingaead.AES256GCMHKDF1MBKeyTemplate())
	if err != nil {
		return file, err
	}
	part, err := os.OpenFile(f.path(file.ID)+partial, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return file, roomy(err)
	}
	defer os.Remove(part.Name()) //nolint:errcheck // after the renaming there is none
	defer part.Close()
	counted := &bounded{from: from, left: most}
	about, err := f.write(part, file.ID, handle, counted, read)
	if err != nil {
		return file, roomy(err)
	}
	file.Size = most - counted.left
	if again != nil {
		if about, err = f.reread(part.Name(), file.ID, handle, again); err != nil {
			return file, err
		}
	}
	text, err := json.Marshal(about)
	if err != nil {
		return file, err
	}
	file.About = string(text)
	if err := os.Rename(part.Name(), f.path(file.ID)); err != nil {
		return file, err
	}
	key, err := writeKey(handle)
	if err == nil {
		err = f.records.AddFile(ctx, file, key, entries...)
	}
	if err != nil {
		_ = os.Remove(f.path(file.ID))
	}
	return file, err
}

// write encrypts what read takes.
func (f *Folder) write(part *os.File, id string, handle *keyset.Handle, from io.Reader,
	read func(io.Reader) (any, error)) (any, error) {
	primitive, err := streamingaead.New(handle)
	if err != nil {
		return nil, err
	}
	w, err := primitive.NewEncryptingWriter(part, []byte(id))
	if err != nil {
		return nil, err
	}
	about, err := read(io.TeeReader(from, w))
	if err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	if err := part.Sync(); err != nil {
		return nil, err
	}
	return about, part.Close()
}

// reread reads what was written, as whoever fetches it will.
func (f *Folder) reread(path, id string, handle *keyset.Handle, read func(io.Reader) (any, error)) (any, error) {
	file, err := unseal(path, id, handle)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return read(file)
}

// roomy says it in our words when the disk is full.
func roomy(err error) error {
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		return fmt.Errorf("%w: %w", record.ErrNoRoom, err)
	}
	return err
}

// bounded gives an error where more comes than is left.
type bounded struct {
	from io.Reader
	left int64
}

// Read reads on.
func (b *bounded) Read(into []byte) (int, error) {
	n, err := b.from.Read(into)
	if b.left -= int64(n); b.left < 0 {
		return 0, record.ErrTooLarge
	}
	return n, err
}

func writeKey(h *keyset.Handle) (secret.Text, error) {
	var text strings.Builder
	err := insecurecleartextkeyset.Write(h, keyset.NewJSONWriter(&text))
	return secret.New(text.String()), err
}

// Get opens a file for reading. The caller closes it. A file that was altered gives an error
// while it is read.
func (f *Folder) Get(ctx context.Context, id string) (io.ReadCloser, error) {
	key, err := f.records.FileKey(ctx, id)
	if err != nil {
		return nil, err
	}
	handle, err := insecurecleartextkeyset.Read(keyset.NewJSONReader(strings.NewReader(key.Reveal())))
	if err != nil {
		return nil, err
	}
	return unseal(f.path(id), id, handle)
}

// unseal opens a file by its key.
func unseal(path, id string, handle *keyset.Handle) (io.ReadCloser, error) {
	primitive, err := streamingaead.New(handle)
	if err != nil {
		return nil, err
	}
	file, err := os.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, record.ErrGone
	}
	if err != nil {
		return nil, err
	}
	r, err := primitive.NewDecryptingReader(file, []byte(id))
	if err != nil {
		file.Close()
		return nil, err
	}
	return opened{r, file}, nil
}

// opened is a file that is read.
type opened struct {
	io.Reader
	io.Closer
}

// Record reads what is known of a file.
func (f *Folder) Record(ctx context.Context, id string) (record.File, error) {
	return f.records.File(ctx, id)
}

// List lists the files of a kind, the newest first.
func (f *Folder) List(ctx context.Context, kind record.FileKind) ([]record.File, error) {
	return f.records.Files(ctx, kind)
}

// Remove removes a file and its record; [record.ErrNotFound] if there was none. The file goes
// first: a record without one is found by the next sweep.
func (f *Folder) Remove(ctx context.Context, id string, e ...journal.Entry) error {
	if err := os.Remove(f.path(id)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return f.records.RemoveFile(ctx, id, e...)
}

// strayAge is how old a file without a record is when it is removed: one that is just being
// taken in has none yet.
const strayAge = 24 * time.Hour

// Sweep removes what was left by a service that ended while it took a file in.
func (f *Folder) Sweep(ctx context.Context, now time.Time) error {
	entries, err := os.ReadDir(f.dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		info, err := e.Info()
		if err != nil || now.Sub(info.ModTime()) < strayAge {
			continue
		}
		id, whole := strings.CutSuffix(e.Name(), suffix)
		if _, err := f.records.File(ctx, id); whole && !errors.Is(err, record.ErrNotFound) {
			continue
		}
		if whole || strings.HasSuffix(e.Name(), partial) {
			if err := os.Remove(filepath.Join(f.dir, e.Name())); err != nil {
				return err
			}
		}
	}
	return nil
}
