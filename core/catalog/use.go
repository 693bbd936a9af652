package catalog

import "time"

// Use says when somebody was last seen in a database, or signed in as an account,
// as far as Genarch has looked: no engine keeps a record of it.
type Use struct {
	// Last is when; zero: not once.
	Last time.Time
	// Since is when Genarch began to watch the server; zero: it does not.
	Since time.Time
	// Unobserved is how much of the time since then nobody looked, or nobody answered.
	Unobserved time.Duration
}

// Watched is what was seen over time of who uses what on one server.
type Watched struct {
	// Identity is the key of the instance; of another one nothing is known.
	Identity string
	// Since is the first look, Until the last one that was answered, and Unobserved how
	// much of the time between them was not looked at.
	Since, Until time.Time
	Unobserved   time.Duration
	// Uses is when each was last seen.
	Uses map[Used]time.Time
}

// Used is what somebody uses: a database, or an account, one of the two.
type Used struct {
	Database string
	Account  Principal
}

// Use of one database or account.
func (w Watched) Use(u Used) Use {
	return Use{Last: w.Uses[u], Since: w.Since, Unobserved: w.Unobserved}
}
