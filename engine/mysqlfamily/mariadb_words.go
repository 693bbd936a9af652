package mysqlfamily

import (
	"slices"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
)

// mariaMethod settles how a new password is kept.
func mariaMethod(b *change.Brief, asked, current string, snap catalog.Snapshot) string {
	method := asked
	switch {
	case method != "":
	case current == methodNative || current == methodEd25519:
		method = current
	case slices.Contains(detailsOf(snap.Details).Methods, methodEd25519):
		method = methodEd25519
	default:
		method = methodNative
	}
	if method != methodNative && method != methodEd25519 {
		b.Find(change.Stop, change.OptionInvalid, "Choose ed25519 or mysql_native_password.",
			"Genarch computes no password for the method %q.", method)
		return method
	}
	if !slices.Contains(detailsOf(snap.Details).Methods, method) {
		b.Find(change.Stop, change.OptionUnsupported, "INSTALL SONAME 'auth_ed25519', or choose mysql_native_password",
			"The server has no authentication method %s.", method)
	}
	if detailsOf(snap.Details).Strict != "" {
		b.Find(change.Stop, change.OptionUnsupported,
			"SET GLOBAL strict_password_validation=0, so that the server takes a verifier that it cannot check itself",
			"The server checks passwords with %s and refuses a verifier. Sending the password itself would put "+
				"it into the server's log.", detailsOf(snap.Details).Strict)
	}
	text := "The server gets only a public key, never the password. Clients need MariaDB's plugin " +
		"client_ed25519, which its own connectors have (for others there is the method mysql_native_password)."
	if method == methodNative {
		text = "The server gets only the hash of mysql_native_password, never the password. Whoever can read " +
			"mysql.global_priv could try to guess it (stronger: ed25519)."
	}
	b.Find(change.Note, change.PasswordMethod, "", "%s", text)
	return method
}
