package mysqlfamily

import (
	"slices"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
)

// mysqlMethod settles how a new password is kept: by caching_sha2_password alone, which every
// client of MySQL 8 and later knows.
func mysqlMethod(b *change.Brief, asked, _ string, snap catalog.Snapshot) string {
	if asked != "" && asked != methodSHA2 {
		b.Find(change.Stop, change.OptionInvalid, "Leave it out.",
			"Genarch computes no password for the method %q.", asked)
		return asked
	}
	if !slices.Contains(detailsOf(snap.Details).Methods, methodSHA2) {
		b.Find(change.Stop, change.OptionUnsupported, "Switch the plugin on.",
			"The server has no authentication method %s.", methodSHA2)
	}
	b.Find(change.Note, change.PasswordMethod, "",
		"The server gets only the verifier of %s, never the password. The first sign-in with it needs TLS or a socket.",
		methodSHA2)
	return methodSHA2
}
