package script

import (
	"io"
	"strings"
	"testing"
)

// rowed is a splitter each of whose statements has rows, of which it must not be asked for the
// next one before they are read.
type rowed struct {
	n    int
	rows *strings.Reader
	t    *testing.T
}

func (r *rowed) Offset() int64 { return int64(r.n) }

func (r *rowed) Next() (Statement, error) {
	if r.rows != nil && r.rows.Len() > 0 {
		r.t.Error("the next statement was asked for before the rows of the last one were read")
	}
	if r.n++; r.n > 5 {
		return Statement{}, io.EOF
	}
	st := Statement{Line: r.n}
	r.rows = nil
	if r.n%2 == 0 {
		r.rows = strings.NewReader("rows")
		st.Rows = r.rows
	}
	return st, nil
}

func TestAhead(t *testing.T) {
	a := NewAhead(&rowed{t: t})
	for line := 1; line <= 5; line++ {
		st, err := a.Next()
		if err != nil || st.Line != line || a.Offset() < int64(line) {
			t.Fatalf("statement %d is %+v, %v, at %d", line, st, err, a.Offset())
		}
		if st.Rows != nil {
			if text, err := io.ReadAll(st.Rows); string(text) != "rows" || err != nil {
				t.Errorf("rows %q, %v", text, err)
			}
		}
	}
	for range 2 {
		if _, err := a.Next(); err != io.EOF {
			t.Errorf("after the last: %v", err)
		}
	}
	a.Close()
	left := NewAhead(&rowed{t: t})
	if _, err := left.Next(); err != nil {
		t.Error(err)
	}
	left.Close() // in the middle
}
