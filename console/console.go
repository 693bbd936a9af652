// Package console holds the built web console and serves it.
package console

import (
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"errors"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"
)

//go:embed all:dist
var dist embed.FS

// file is one file of the console in each form that it can be sent in.
type file struct {
	kind  string // media type
	forms map[string]form
}

// form is the bytes of a file in one encoding; "" is as it is.
type form struct {
	bytes []byte
	etag  string
}

// ErrNotBuilt: the console has not been built into this binary.
var ErrNotBuilt = errors.New("the console is not built into this binary: run make build")

// Handler serves the console: files as they are, and its one page for every
// other address, so that addresses can be shared. What is compressed was
// compressed by the build.
func Handler() (http.Handler, error) {
	files := map[string]file{}
	err := fs.WalkDir(dist, "dist", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := dist.ReadFile(name)
		if err != nil {
			return err
		}
		encoding := ""
		address := "/" + strings.TrimPrefix(name, "dist/")
		for suffix, e := range map[string]string{".br": "br", ".gz": "gzip"} {
			if base, ok := strings.CutSuffix(address, suffix); ok {
				address, encoding = base, e
			}
		}
		f, there := files[address]
		if !there {
			f = file{kind: mediaType(address), forms: map[string]form{}}
			files[address] = f
		}
		sum := sha256.Sum256(text)
		f.forms[encoding] = form{text, `"` + hex.EncodeToString(sum[:10]) + `"`}
		return nil
	})
	if err != nil {
		return nil, err
	}
	page, built := files["/index.html"]
	if !built {
		return nil, ErrNotBuilt
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			http.Error(w, "method not allowed", http.StatusMethodNotAllowed)
			return
		}
		f, there := files[r.URL.Path]
		immutable := there && strings.HasPrefix(r.URL.Path, "/assets/")
		if !there {
			if strings.HasPrefix(r.URL.Path, "/assets/") {
				http.NotFound(w, r)
				return
			}
			f = page
		}
		f.serve(w, r, immutable)
	}), nil
}

func (f file) serve(w http.ResponseWriter, r *http.Request, immutable bool) {
	header := w.Header()
	header.Set("Content-Type", f.kind)
	header.Set("Vary", "Accept-Encoding")
	header.Set("Cache-Control", "no-cache")
	if immutable {
		header.Set("Cache-Control", "public, max-age=31536000, immutable")
	}
	sent := f.forms[""]
	accepted := r.Header.Get("Accept-Encoding")
	for _, e := range []string{"br", "gzip"} {
		if packed, there := f.forms[e]; there && strings.Contains(accepted, e) {
			header.Set("Content-Encoding", e)
			sent = packed
			break
		}
	}
	header.Set("ETag", sent.etag)
	if r.Header.Get("If-None-Match") == sent.etag {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	w.WriteHeader(http.StatusOK)
	if r.Method == http.MethodGet {
		w.Write(sent.bytes)
	}
}

// mediaType goes by the file's ending, the same on every machine.
func mediaType(name string) string {
	switch ext := path.Ext(name); ext {
	case ".js":
		return "text/javascript; charset=utf-8"
	case ".css":
		return "text/css; charset=utf-8"
	case ".html":
		return "text/html; charset=utf-8"
	case ".svg":
		return "image/svg+xml"
	case ".woff2":
		return "font/woff2"
	default:
		if kind := mime.TypeByExtension(ext); kind != "" {
			return kind
		}
		return "application/octet-stream"
	}
}
