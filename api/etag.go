package api

import (
	"bytes"
	"hash/maphash"
	"net/http"
	"regexp"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"
)

// maxTagged bounds the answer that is held back for its tag; a longer one is sent
// without.
const maxTagged = 8 << 20

// readAt is the time at which a list was read. It is another one each time, and
// says nothing of what was read; in a text of JSON its quotes would be escaped.
var readAt = regexp.MustCompile(`"read":"[^"\\]*"`)

// tag gives what is read a weak entity tag (RFC 9110, 8.8.3), and answers 304 when
// the caller has it already: whoever looks again and again is sent nothing twice.
func tag(c *gin.Context) {
	if c.Request.Method != http.MethodGet || !strings.HasPrefix(c.Request.URL.Path, prefix) ||
		c.Request.URL.Path == prefix+"/events" {
		c.Next()
		return
	}
	held := &heldWriter{ResponseWriter: c.Writer}
	c.Writer = held
	c.Next()
	held.end(c.Request.Header.Get("If-None-Match"))
}

// tagSeed makes the tags of this service its own: nobody can foresee which answers
// would have the same.
var tagSeed = maphash.MakeSeed()

// markOf is the tag of an answer.
func markOf(body []byte) string {
	var h maphash.Hash
	h.SetSeed(tagSeed)
	done := 0
	for _, at := range readAt.FindAllIndex(body, -1) {
		h.Write(body[done:at[0]])
		done = at[1]
	}
	h.Write(body[done:])
	return `W/"` + strconv.FormatUint(h.Sum64(), 36) + `"`
}

// heldWriter holds an answer back until its tag is known.
type heldWriter struct {
	gin.ResponseWriter
	body bytes.Buffer
	sent bool
}

func (w *heldWriter) Write(p []byte) (int, error) {
	if !w.sent && w.body.Len()+len(p) <= maxTagged {
		return w.body.Write(p)
	}
	if err := w.release(); err != nil {
		return 0, err
	}
	return w.ResponseWriter.Write(p)
}

func (w *heldWriter) WriteString(s string) (int, error) { return w.Write([]byte(s)) }

// Flush sends what is held: whoever flushes does not want it kept.
func (w *heldWriter) Flush() {
	_ = w.release()
	w.ResponseWriter.Flush()
}

func (w *heldWriter) release() error {
	w.sent = true
	_, err := w.ResponseWriter.Write(w.body.Bytes())
	w.body.Reset()
	return err
}

// end sends the answer with its tag, or that the caller has it.
func (w *heldWriter) end(known string) {
	if w.sent {
		return
	}
	if w.Status() == http.StatusOK && w.body.Len() > 0 {
		mark := markOf(w.body.Bytes())
		w.Header().Set("ETag", mark)
		for k := range strings.SplitSeq(known, ",") {
			if strings.TrimSpace(k) == mark {
				w.Header().Del("Content-Type")
				w.WriteHeader(http.StatusNotModified)
				w.WriteHeaderNow()
				return
			}
		}
	}
	if w.body.Len() > 0 {
		_ = w.release()
	}
}
