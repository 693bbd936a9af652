package catalog

import "time"

// Holding is what is kept of a database or an account that was set aside, with the thing
// itself: a lost store loses nothing of it.
type Holding struct {
	// Name is the one that it had.
	Name string
	// Since is the day on which it was set aside, Until the last one on which it is kept
	// for certain; both at midnight UTC.
	Since, Until time.Time
	// Open: people could connect to it, or sign in as it.
	Open bool
	// Comment is the one that it had.
	Comment string
	// Tables is how many it had; nil: not known.
	Tables *int
	// Opened: somebody lets people connect to it, or sign in as it, meanwhile.
	Opened bool
	// Kept is what the engine needs besides to bring it back.
	Kept map[string]string
	// Discard: Genarch discards it once it is kept no longer for certain, as was said when it
	// was set aside.
	Discard bool
	// Hold says why it must not be discarded, whatever the day; empty: nobody said so.
	Hold string
}

// Keeping is what a server's registration says of what is set aside there.
type Keeping struct {
	// Days is for how long it is kept for certain; 0 leaves it to the environment.
	Days int `json:"days"`
	// Discard: what is kept no longer for certain is discarded by Genarch itself.
	Discard bool `json:"discard"`
}

// Day is the day of a time, in UTC.
func Day(t time.Time) time.Time { return t.UTC().Truncate(24 * time.Hour) }

// Due reports whether its keeping time is over.
func (h Holding) Due(now time.Time) bool { return Day(now).After(h.Until) }

// MaxKeepDays is the longest keeping time that can be asked for: ten years.
const MaxKeepDays = 3650
