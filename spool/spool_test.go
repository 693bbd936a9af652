package spool

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"example.com/genarch/core/change"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/record"
	"example.com/genarch/core/secret"
)

// shelf keeps records in memory.
type shelf struct {
	mu    sync.Mutex
	files map[string]record.File
	keys  map[string]secret.Text
	noted []string
}

func (s *shelf) AddFile(_ context.Context, f record.File, key secret.Text, e ...journal.Entry) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.files[f.ID], s.keys[f.ID] = f, key
	for _, x := range e {
		s.noted = append(s.noted, x.Action)
	}
	return nil
}

func (s *shelf) File(_ context.Context, id string) (record.File, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	f, there := s.files[id]
	if !there {
		return f, record.ErrNotFound
	}
	return f, nil
}

func (s *shelf) FileKey(_ context.Context, id string) (secret.Text, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	k, there := s.keys[id]
	if !there {
		return k, record.ErrNotFound
	}
	return k, nil
}

func (s *shelf) Files(_ context.Context, kind record.FileKind) ([]record.File, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []record.File
	for _, f := range s.files {
		if f.Kind == kind {
			out = append(out, f)
		}
	}
	return out, nil
}

func (s *shelf) FilesOver(ctx context.Context, kind record.FileKind, now time.Time) ([]record.File, error) {
	all, err := s.Files(ctx, kind)
	return slices.DeleteFunc(all, func(f record.File) bool { return f.Until.IsZero() || now.Before(f.Until) }), err
}

func (s *shelf) RemoveFile(_ context.Context, id string, e ...journal.Entry) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, there := s.files[id]; !there {
		return record.ErrNotFound
	}
	delete(s.files, id)
	for _, x := range e {
		s.noted = append(s.noted, x.Action)
	}
	return nil
}

func folder(t *testing.T) (*Folder, *shelf, string) {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "files")
	s := &shelf{files: map[string]record.File{}, keys: map[string]secret.Text{}}
	f, err := Open(dir, s)
	if err != nil {
		t.Fatal(err)
	}
	return f, s, dir
}

func whole(r io.Reader) (any, error) {
	text, err := io.ReadAll(r)
	return len(text), err
}

func TestFolder(t *testing.T) {
	f, s, dir := folder(t)
	text := strings.Repeat("a secret of the ferry company\n", 100_000)
	file, err := f.Put(t.Context(), record.File{ID: NewID(), Kind: record.ScriptFile}, strings.NewReader(text), 4<<20,
		whole, nil)
	if err != nil || file.Size != int64(len(text)) || s.files[file.ID].About != "3000000" {
		t.Fatalf("%+v, %v", file, err)
	}
	on := filepath.Join(dir, file.ID+suffix)
	if raw, err := os.ReadFile(on); err != nil || strings.Contains(string(raw), "secret") {
		t.Errorf("the file can be read without its key, or not at all: %v", err)
	}
	if info, err := os.Stat(on); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the file can be read by others: %v, %v", info.Mode(), err)
	}
	r, err := f.Get(t.Context(), file.ID)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := io.ReadAll(r); err != nil || string(got) != text {
		t.Errorf("%d bytes come back, %v", len(got), err)
	}
	r.Close()
	testAltered(t, f, on, file.ID)
	if err := f.Remove(t.Context(), file.ID); err != nil {
		t.Error(err)
	}
	if err := f.Remove(t.Context(), file.ID); !errors.Is(err, record.ErrNotFound) {
		t.Errorf("removed twice: %v", err)
	}
	if list, _ := os.ReadDir(dir); len(list) != 0 {
		t.Errorf("%d files are left", len(list))
	}
}

// testAltered: a file that was altered, cut or swapped does not open.
func testAltered(t *testing.T, f *Folder, on, id string) {
	t.Helper()
	good, err := os.ReadFile(on)
	if err != nil {
		t.Fatal(err)
	}
	altered := append([]byte{}, good...)
	altered[len(altered)/2] ^= 1
	for name, text := range map[string][]byte{"altered": altered, "cut off": good[:len(good)-1000], "empty": {}} {
		if err := os.WriteFile(on, text, 0o600); err != nil {
			t.Fatal(err)
		}
		r, err := f.Get(t.Context(), id)
		if err == nil {
			_, err = io.Copy(io.Discard, r)
			r.Close()
		}
		if err == nil {
			t.Errorf("a file that was %s opens", name)
		}
	}
	if err := os.WriteFile(on, good, 0o600); err != nil {
		t.Fatal(err)
	}
}

func TestFolderTakesNothingInPart(t *testing.T) {
	f, s, dir := folder(t)
	put := func(from io.Reader, most int64, read, again func(io.Reader) (any, error)) error {
		_, err := f.Put(t.Context(), record.File{ID: NewID(), Kind: record.ScriptFile}, from, most, read, again)
		return err
	}
	failed := errors.New("failed")
	if err := put(strings.NewReader("too much"), 3, whole, nil); !errors.Is(err, record.ErrTooLarge) {
		t.Errorf("more than may be: %v", err)
	}
	half := io.MultiReader(strings.NewReader("x"), errorReader{failed})
	if err := put(half, 100, whole, nil); !errors.Is(err, failed) {
		t.Errorf("cut off: %v", err)
	}
	refuse := func(io.Reader) (any, error) { return nil, failed }
	if err := put(strings.NewReader("x"), 100, whole, refuse); !errors.Is(err, failed) {
		t.Errorf("not good when it is read once more: %v", err)
	}
	if list, _ := os.ReadDir(dir); len(list) != 0 || len(s.files) != 0 {
		t.Errorf("%d files and %d records are left", len(list), len(s.files))
	}
}

type errorReader struct{ err error }

func (e errorReader) Read([]byte) (int, error) { return 0, e.err }

func TestFolderSweep(t *testing.T) {
	f, _, dir := folder(t)
	file, err := f.Put(t.Context(), record.File{ID: "kept", Kind: record.ScriptFile}, strings.NewReader("x"), 100,
		whole, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"stray" + suffix, "half" + suffix + partial, "not-ours.txt"} {
		if err := os.WriteFile(filepath.Join(dir, name), nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	names := func() string {
		list, _ := os.ReadDir(dir)
		var out []string
		for _, e := range list {
			out = append(out, e.Name())
		}
		return strings.Join(out, " ")
	}
	all := names()
	if err := f.Sweep(t.Context(), time.Now()); err != nil || names() != all {
		t.Errorf("what may be just being taken in is removed: %s, %v", names(), err)
	}
	if err := f.Sweep(t.Context(), time.Now().Add(strayAge+time.Hour)); err != nil ||
		names() != file.ID+suffix+" not-ours.txt" {
		t.Errorf("left: %s, %v", names(), err)
	}
}

func TestExports(t *testing.T) {
	f, s, _ := folder(t)
	x := &Exports{Folder: f, Log: slog.New(slog.DiscardHandler)}
	write := func(w io.Writer) error {
		_, err := io.WriteString(w, "all of it")
		return err
	}
	read := func(r io.Reader) ([]string, error) {
		text, err := io.ReadAll(r)
		return []string{string(text)}, err
	}
	id, err := x.Keep(t.Context(), "dispatcher", "harbour", "harbour/tides_prod", change.Export{Database: "tides_prod",
		Days: 7}, write, read)
	if err != nil {
		t.Fatal(err)
	}
	rec, of, err := x.Export(t.Context(), id)
	if err != nil || rec.Subject != "harbour/tides_prod" || of.Checked[0] != "all of it" || len(of.SHA256) != 64 ||
		rec.Until.Sub(rec.Created) != 7*24*time.Hour {
		t.Errorf("%+v %+v, %v", rec, of, err)
	}
	failed := errors.New("the program ended")
	if _, err := x.Keep(t.Context(), "dispatcher", "harbour", "harbour/x", change.Export{}, func(w io.Writer) error {
		_, _ = io.WriteString(w, "half")
		return failed
	}, read); !errors.Is(err, failed) || len(s.files) != 1 {
		t.Errorf("an export that failed: %v, %d are kept", err, len(s.files))
	}
	if err := x.Sweep(t.Context(), time.Now()); err != nil || len(s.files) != 1 {
		t.Errorf("one that is kept was removed: %v", err)
	}
	if err := x.Sweep(t.Context(), time.Now().AddDate(0, 0, 8)); err != nil || len(s.files) != 0 {
		t.Errorf("one that is over was not: %v", err)
	}
	if got := strings.Join(s.noted, " "); got != "export.keep export.remove" {
		t.Errorf("on record: %s", got)
	}
}
