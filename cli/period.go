package cli

import (
	"net/url"
	"time"

	"github.com/urfave/cli/v3"
)

func sinceFlag() cli.Flag {
	return &cli.StringFlag{Name: "since",
		Usage: "not before this `TIME`: 2026-11-27, 2026-11-27T14:30, or 3h ago as 3h"}
}

func untilFlag() cli.Flag {
	return &cli.StringFlag{Name: "until", Usage: "before this `TIME`"}
}

// setTexts puts the flags that were given into a query, by their names.
func setTexts(q url.Values, c *cli.Command, names ...string) {
	for _, name := range names {
		if v := c.String(name); v != "" {
			q.Set(name, v)
		}
	}
}

// setPeriod puts since and until into a query.
func setPeriod(q url.Values, c *cli.Command) error {
	for _, name := range []string{"since", "until"} {
		text := c.String(name)
		if text == "" {
			continue
		}
		at, ok := timeOf(text, time.Now())
		if !ok {
			return usage(
				"Write --%s as a time, such as 2026-11-27 or 2026-11-27T14:30, or as how long ago, such as 3h, "+
					"not %q.",
				name,
				text,
			)
		}
		q.Set(name, at.UTC().Format(time.RFC3339))
	}
	return nil
}

// timeOf reads a time of the clock here, or how long ago it was.
func timeOf(text string, now time.Time) (time.Time, bool) {
	if ago, err := time.ParseDuration(text); err == nil && ago > 0 {
		return now.Add(-ago), true
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02T15:04", time.DateOnly} {
		if at, err := time.ParseInLocation(layout, text, now.Location()); err == nil {
			return at, true
		}
	}
	return time.Time{}, false
}
