package policy

import "example.com/genarch/core/catalog"

// keepDays are the keeping times of what was set aside, by environment.
var keepDays = map[catalog.Environment]int{catalog.Production: 30, catalog.Staging: 7, catalog.Development: 1}

// KeepDays is for how many days a database that is set aside is kept for certain; asked
// is what somebody said, 0 leaves it to the environment.
func KeepDays(env catalog.Environment, asked int) int {
	if asked > 0 {
		return min(asked, catalog.MaxKeepDays)
	}
	if days, known := keepDays[env]; known {
		return days
	}
	return keepDays[catalog.Production]
}
