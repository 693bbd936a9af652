package store

import (
	"errors"
	"testing"
	"time"

	"example.com/genarch/core/record"
	"example.com/genarch/core/secret"
)

func TestFiles(t *testing.T) {
	t.Parallel()
	s, _ := openStore(t)
	now := time.Now().UTC().Truncate(time.Microsecond)
	script := record.File{ID: "script1", Kind: record.ScriptFile, Server: "harbour", Subject: "harbour",
		Operator: "lead",
		Size:     5 << 30, About: `{"file":"seed.sql"}`, Created: now}
	export := record.File{ID: "export1", Kind: record.ExportFile, Server: "harbour", Subject: "harbour/d",
		Operator: "lead",
		About:    "{}", Created: now, Until: now.AddDate(0, 0, 7)}
	for _, f := range []record.File{script, export} {
		if err := s.AddFile(t.Context(), f, secret.New("opens "+f.ID), entry); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := s.File(t.Context(), "script1"); err != nil || got != script {
		t.Errorf("%+v, %v; want %+v", got, err, script)
	}
	if list, err := s.Files(t.Context(), record.ExportFile); err != nil || len(list) != 1 || list[0] != export {
		t.Errorf("exports: %+v, %v", list, err)
	}
	for days, want := range map[int]int{6: 0, 7: 1} {
		if list, err := s.FilesOver(t.Context(), record.ExportFile, now.AddDate(0, 0, days)); err != nil ||
			len(list) != want {
			t.Errorf("over after %d days: %+v, %v", days, list, err)
		}
	}
	if key, err := s.FileKey(t.Context(), "script1"); err != nil || key.Reveal() != "opens script1" {
		t.Errorf("the key is %q, %v", key.Reveal(), err)
	}
	// Moved to another file a key opens nothing.
	if err := s.db.Exec(`UPDATE files a JOIN files b ON b.id = 'script1' SET a.sealed_key = b.sealed_key
		WHERE a.id = 'export1'`).Error; err != nil {
		t.Fatal(err)
	}
	if _, err := s.FileKey(t.Context(), "export1"); !errors.Is(err, record.ErrSealed) {
		t.Errorf("a key that was moved: %v", err)
	}
	if err := s.RemoveFile(t.Context(), "export1", entry); err != nil {
		t.Error(err)
	}
	if err := s.RemoveFile(t.Context(), "export1", entry); !errors.Is(err, record.ErrNotFound) {
		t.Errorf("removed twice: %v", err)
	}
	if _, err := s.RotateKey(t.Context(), entry); err != nil {
		t.Fatal(err)
	}
	if key, err := s.FileKey(t.Context(), "script1"); err != nil || key.Reveal() != "opens script1" {
		t.Errorf("after a new key: %q, %v", key.Reveal(), err)
	}
	if err := s.RemoveFile(t.Context(), "script1"); err != nil {
		t.Error(err)
	}
}
