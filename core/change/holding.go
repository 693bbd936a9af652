package change

import (
	"errors"
	"fmt"
	"time"

	"example.com/genarch/core/catalog"
)

// HoldingSpec is what is asked for of a database or an account that was set aside.
type HoldingSpec struct {
	// ID is the name under which it waits.
	ID string `json:"id"`
	// Account: it is an account.
	Account bool `json:"account,omitempty"`
	// NewName is for BringBack; empty: the name that it had.
	NewName string `json:"new_name,omitempty"`
	// Until is for KeepHolding: the last day on which it is kept, as 2026-12-24.
	Until string `json:"until,omitempty"`
	// Hold is for KeepHolding: why it must not be discarded; Release ends that.
	Hold    string `json:"hold,omitempty"`
	Release bool   `json:"release,omitempty"`
}

// WaitsAs is the name of the setting that says under which name a database waits.
const WaitsAs = "holding"

// Held is the name under which what a change set aside waits; empty: it did no such thing.
func (b Brief) Held() string {
	for _, s := range b.Settings {
		if s.Name == WaitsAs {
			return s.Value
		}
	}
	return ""
}

// BackAs is the name that what a change brought back has; empty: it did no such thing.
func (b Brief) BackAs() string {
	for _, s := range b.Settings {
		if s.Name == "name" {
			return s.Value
		}
	}
	return ""
}

// maxHold is how many characters the reason of a hold has at most.
const maxHold = 300

func (s HoldingSpec) check(k Kind) error {
	if k != KeepHolding {
		return nil
	}
	switch {
	case s.Until == "" && s.Hold == "" && !s.Release:
		return errors.New("holding.keep needs until, hold or release")
	case s.Hold != "" && s.Release:
		return errors.New("give either hold or release")
	case len([]rune(s.Hold)) > maxHold:
		return fmt.Errorf("the reason of a hold has at most %d characters", maxHold)
	}
	if _, err := s.Day(); err != nil && s.Until != "" {
		return errors.New("until is a day, as 2026-12-24")
	}
	return nil
}

// Day reads Until.
func (s HoldingSpec) Day() (time.Time, error) { return time.Parse(time.DateOnly, s.Until) }

// checkKeep says what is wrong with a keeping time.
func checkKeep(days int) error {
	if days < 0 || days > catalog.MaxKeepDays {
		return fmt.Errorf("keep_days is 1 to %d", catalog.MaxKeepDays)
	}
	return nil
}
