package enginetest

import (
	"slices"
	"strings"
	"testing"

	"example.com/genarch/core/change"
)

// CheckFindings checks that a brief has these findings, each as level:code, and is stopped if
// one of them stops. With only, it has no other stop or caution.
func CheckFindings(t *testing.T, b change.Brief, want string, only bool) (got []string) {
	t.Helper()
	for _, f := range b.Findings {
		got = append(got, string(f.Level)+":"+f.Code)
	}
	wanted := strings.Fields(want)
	for _, w := range wanted {
		if !slices.Contains(got, w) {
			t.Errorf("%s is not among %v", w, got)
		}
	}
	if stops := strings.Contains(want, "stop:"); b.Stopped() != stops {
		t.Errorf("stopped: %v; %+v", b.Stopped(), b.Findings)
	}
	for _, code := range got {
		if only && !strings.HasPrefix(code, "note:") && !slices.Contains(wanted, code) {
			t.Errorf("%s was not expected", code)
		}
	}
	return got
}
