package policy

import (
	"time"

	"example.com/genarch/core/catalog"
)

// keepDays are the keeping times of what was set aside, by environment.
var keepDays = map[catalog.Environment]int{catalog.Production: 30, catalog.Staging: 7, catalog.Development: 1}

// KeepDays is for how many days a database that is set aside is kept for certain: asked is
// what somebody said; 0 leaves it to the server's registration, and that to the environment.
func KeepDays(srv catalog.Server, asked int) int {
	days, known := keepDays[srv.Environment]
	switch {
	case asked > 0:
		days = asked
	case srv.Keeping.Days > 0:
		days = srv.Keeping.Days
	case !known:
		days = keepDays[catalog.Production]
	}
	return min(days, catalog.MaxKeepDays)
}

// MayDiscard reports whether Genarch itself may discard what was set aside on a server:
// that was said when it was set aside and is still the rule, its keeping time is over, nobody
// wants it kept, and nobody opened it meanwhile.
func MayDiscard(srv catalog.Server, h catalog.Holding, now time.Time) bool {
	return h.Discard && srv.Keeping.Discard && h.Due(now) && h.Hold == "" && !h.Opened
}
