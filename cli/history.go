package cli

import (
	"context"
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/guptarohit/asciigraph"
	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
	"example.com/genarch/client"
)

const (
	// plotWidth and plotHeight are those of a plot, in characters, where there is room.
	plotWidth, plotHeight = 96, 8
	// plotMargin is what the axis of a plot takes.
	plotMargin = 14
)

func historyFlags() []cli.Flag {
	return []cli.Flag{outputFlag(), &cli.IntFlag{Name: "days", Value: 7, Usage: "how many days back, 1 to 90"}}
}

func (a app) databaseHistory(ctx context.Context, c *cli.Command) error {
	server, name, err := splitAddress(c)
	if err != nil {
		return err
	}
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	h, err := api.DatabaseHistory(ctx, server, name, c.Int("days"))
	if err != nil {
		return err
	}
	return a.printHistory(c, h)
}

func (a app) serverHistory(ctx context.Context, c *cli.Command, api *client.Client, name string) error {
	h, err := api.ServerHistory(ctx, name, c.Int("days"))
	if err != nil {
		return err
	}
	return a.printHistory(c, h)
}

// printHistory draws what was over time; for programs it gives the points.
func (a app) printHistory(c *cli.Command, h wire.History) error {
	if c.String("output") != "table" {
		return print(a, c, h, h.Points, []column[wire.HistoryPoint]{
			{title: "at", text: func(p wire.HistoryPoint) string { return timeText(p.At) }},
			{title: "sessions", right: true, text: func(p wire.HistoryPoint) string {
				if p.Missing {
					return ""
				}
				return fmt.Sprint(p.Sessions)
			}},
			{title: "size", right: true, text: func(p wire.HistoryPoint) string {
				if p.Size == nil {
					return ""
				}
				return fmt.Sprint(*p.Size)
			}},
		})
	}
	sessions, sizes := make([]float64, len(h.Points)), make([]float64, len(h.Points))
	known := 0
	for i, p := range h.Points {
		sessions[i], sizes[i] = math.NaN(), math.NaN()
		if !p.Missing {
			known++
			sessions[i] = float64(p.Sessions)
		}
		if p.Size != nil {
			sizes[i] = float64(*p.Size)
		}
	}
	a.say("%s  %s to %s, the highest of every %s", bold.Render(visible(h.Address)), timeText(h.From), timeText(h.Until),
		spanText(time.Duration(h.Seconds)*time.Second))
	if known == 0 {
		a.say("  nothing was seen of it in that time; Genarch measures every minute while it runs")
		return nil
	}
	a.plot(h, "sessions", sessions, 1, func(v float64) string { return fmt.Sprintf("%.0f", v) })
	a.plot(h, "size", sizes, 0, func(v float64) string { return sizeText(int64(v)) })
	return nil
}

// plot draws one curve with its own axes; times at which nothing is known are gaps. unit is
// the least that two lines of the plot are apart; 0: anything.
func (a app) plot(h wire.History, title string, values []float64, unit float64, label func(float64) string) {
	low, high, last := math.Inf(1), math.Inf(-1), math.NaN()
	for _, v := range values {
		if !math.IsNaN(v) {
			low, high, last = min(low, v), max(high, v), v
		}
	}
	if math.IsNaN(last) {
		fmt.Fprintf(a.Out, "\n%s: not known\n", bold.Render(title))
		return
	}
	fmt.Fprintf(a.Out, "\n%s  %s\n", bold.Render(title), faint.Render(fmt.Sprintf("lowest %s, highest %s, last %s",
		label(low), label(high), label(last))))
	width := plotWidth
	if limit := terminalWidth(a.Out); limit > 0 {
		width = min(width, limit-plotMargin)
	}
	if high == low { // a flat line stands in the middle of an axis of its own
		low, high = max(0, low-1), high+1
	}
	height := plotHeight
	if unit > 0 { // as many lines as there are values between, or a step of whole units
		step := math.Ceil((high - low) / plotHeight / unit)
		height = int(math.Ceil((high - low) / unit / step))
		high = low + float64(height)*step*unit
	}
	day := "02 Jan"
	switch span := h.Until.Sub(h.From); {
	case span < 3*24*time.Hour:
		day = "02 15:04"
	case span < 30*24*time.Hour && width >= plotWidth*3/4:
		day = "02 Jan 15:04" // the marks stand between days
	}
	text := asciigraph.Plot(values, asciigraph.Width(max(width, 10)), asciigraph.Height(height),
		asciigraph.XAxisRange(float64(h.From.Unix()), float64(h.Until.Unix())), asciigraph.XAxisTickCount(5),
		asciigraph.XAxisValueFormatter(func(v float64) string { return time.Unix(int64(v), 0).UTC().Format(day) }),
		asciigraph.LowerBound(low), asciigraph.UpperBound(high),
		asciigraph.YAxisValueFormatter(func(v float64) string { return fmt.Sprintf("%9s", label(max(0, v))) }))
	for line := range strings.Lines(text) {
		fmt.Fprintln(a.Out, strings.TrimRight(line, " \n"))
	}
}

// spanText writes a step of time: 10 minutes, 1 hour.
func spanText(d time.Duration) string {
	for _, unit := range []struct {
		of   time.Duration
		name string
	}{{24 * time.Hour, "day"}, {time.Hour, "hour"}, {time.Minute, "minute"}} {
		if n := int(d / unit.of); n > 0 && d%unit.of == 0 {
			if n == 1 {
				return unit.name
			}
			return fmt.Sprintf("%d %ss", n, unit.name)
		}
	}
	return d.String()
}
