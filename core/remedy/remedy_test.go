package remedy

import "testing"

// An action says itself in one line.
func TestActions(t *testing.T) {
	for _, tt := range []struct {
		action Action
		want   string
	}{
		{Command("database.list", "harbour"), "database.list harbour"},
		{Choices("harbour", "collations"), "server.choices harbour collations"},
		{Option("clearing.accept_loss", Yes), "clearing.accept_loss=yes"},
		{Option("options.reassign_to", ""), "options.reassign_to"},
		{Command("session.list", "").With("tree", Yes), "session.list tree=yes"},
	} {
		if got := tt.action.String(); got != tt.want {
			t.Errorf("%+v is written %q, not %q", tt.action, got, tt.want)
		}
	}
}
