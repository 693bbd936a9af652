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

// The crypt itself is compared with that of OpenSSL, which takes 16 bytes of salt: openssl passwd -5.
func TestSHA2(t *testing.T) {
	for _, x := range [][3]string{{"0123456789abcdef", "gull-harpoon-3", "55IF1xodlhtWvYQbxdWdooo8FzKzAQmspjiiAm1tr43"},
		{"abcdefghijklmnop", "pä55", "f/dulX77DpsLkByfjyRMhjhaJHplHqEqBk/tWZQZDUD"}} {
		if got := sha2Crypt(x[1], []byte(x[0]), sha2Rounds); got != "$A$005$"+x[0]+x[2] {
			t.Errorf("%s: %s", x[1], got)
		}
	}
	kept := sha2Verifier("a long one")
	if len(kept) != sha2Length || !sha2Matches(kept, "a long one") || sha2Matches(kept, "another") ||
		sha2Matches(mysqlNobody, "") || len(mysqlNobody) != sha2Length || sha2Matches(kept[1:], "a long one") {
		t.Errorf("%s", kept)
	}
	if sha2Verifier("a long one") == kept {
		t.Error("the salt is not random")
	}
}
