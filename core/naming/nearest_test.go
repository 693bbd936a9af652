package naming

import "testing"

func TestNearest(t *testing.T) {
	fleet := []string{"harbour", "quay", "slipway", "tide1", "tide2"}
	for _, tt := range []struct{ typed, want string }{
		{"harbor", "harbour"}, {"Harbour", "harbour"}, {"harbuor", "harbour"}, {"qay", "quay"}, {"quey", "quay"},
		{"slip", ""}, {"slipwy", "slipway"},
		{"tide3", ""}, {"", ""}, {"q", ""}, {"xylophone", ""}, {"hаrbour", "harbour"}, // with a Cyrillic а
	} {
		if got, found := Nearest(tt.typed, fleet); got != tt.want || found != (tt.want != "") {
			t.Errorf("Nearest(%q) = %q, %v; want %q", tt.typed, got, found, tt.want)
		}
	}
}
