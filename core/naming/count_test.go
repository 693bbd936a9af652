package naming

import "testing"

func TestCount(t *testing.T) {
	for _, tt := range [][2]string{
		{Count(0, "session"), "0 sessions"}, {Count(1, "session"), "1 session"},
		{Count(int64(2), "session"), "2 sessions"},
		{Count(2, "index", "indexes"), "2 indexes"}, {Count(1, "index", "indexes"), "1 index"},
		{CountWord(1, "tables"), "1 table"}, {CountWord(3, "tables"), "3 tables"},
	} {
		if tt[0] != tt[1] {
			t.Errorf("%q, want %q", tt[0], tt[1])
		}
	}
}
