package change

import (
	"encoding/json"
	"strconv"

	"example.com/genarch/core/secret"
)

// The arguments by which a step says which secrets it needs, and where in its
// statement the one belongs.
const (
	argSecrets  = "secrets"
	argSecretAt = "secret_at"
)

// WithSecret makes a step whose statement is before, a secret, and after. What is
// shown and kept of it has a mask there.
func (s Step) WithSecret(account, before, after string) Step {
	s.Statement = before + "'" + secret.Mask + "'" + after
	args := map[string]string{argSecrets: list([]string{account}), argSecretAt: strconv.Itoa(len(before))}
	for k, v := range s.Args {
		args[k] = v
	}
	s.Args = args
	return s
}

// NeedsSecrets makes a step that uses the passwords of these accounts.
func (s Step) NeedsSecrets(accounts ...string) Step {
	if len(accounts) == 0 {
		return s
	}
	args := map[string]string{argSecrets: list(accounts)}
	for k, v := range s.Args {
		args[k] = v
	}
	s.Args = args
	return s
}

// SecretsNeeded lists the accounts whose passwords the step uses.
func (s Step) SecretsNeeded() []string {
	var out []string
	_ = json.Unmarshal([]byte(s.Args[argSecrets]), &out) // no such argument: none
	return out
}

// list writes names as one argument, whatever is in them.
func list(names []string) string {
	text, err := json.Marshal(names)
	if err != nil {
		panic("names are plain texts: " + err.Error())
	}
	return string(text)
}

// Filled is the statement with literal, a quoted text, in place of the mask. It
// is known by its place, not by how it looks: a name may look like a mask.
func (s Step) Filled(literal string) string {
	at, err := strconv.Atoi(s.Args[argSecretAt])
	mask := "'" + secret.Mask + "'"
	if err != nil || at < 0 || at+len(mask) > len(s.Statement) {
		return s.Statement
	}
	return s.Statement[:at] + literal + s.Statement[at+len(mask):]
}
