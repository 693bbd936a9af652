package mysqlfamily

import "testing"

func TestHashes(t *testing.T) {
	if got := nativeHash("pw"); got != "*D821809F681A40A6E379B50D0463EFAE20BDD122" {
		t.Errorf("nativeHash = %s", got)
	}
	// Computed by the server itself: SELECT with its plugin's own PASSWORD().
	for password, want := range map[string]string{
		"secret": "ZIgUREUg5PVgQ6LskhXmO+eZLS0nC8be6HPjYWR4YJY", "": "4LH+dBF+G5W2CKTyId8xR3SyDqZoQjUNUVNxx8aWbG4",
	} {
		if got, err := hashFor(methodEd25519, password); got != want || err != nil {
			t.Errorf("ed25519 of %q = %s, %v; want %s", password, got, err, want)
		}
	}
}
