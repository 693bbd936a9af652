package engine

import (
	"context"
	"time"
)

// Pause waits; it reports false when ctx ends first.
func Pause(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}
