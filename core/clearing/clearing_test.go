package clearing

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"example.com/genarch/core/catalog"
)

func TestTarget(t *testing.T) {
	app := catalog.Principal{Name: "tickets_app"}
	all := crowd("idle elsewhere using own engine backup")
	for name, tt := range map[string]struct {
		target Target
		want   string
	}{
		"database": {Target{Database: "tickets_prod"}, "1 3 6"},
		"account":  {Target{Account: &app}, "1 2 3 6"},
		"ids":      {Target{IDs: []catalog.SessionID{all[1].ID, all[3].ID, {Number: 1, Mark: "another"}}}, "2"},
		"nothing":  {Target{}, ""},
	} {
		var got []string
		for _, s := range tt.target.Of(all) {
			got = append(got, fmt.Sprint(s.ID.Number))
		}
		if strings.Join(got, " ") != tt.want {
			t.Errorf("%s: %v; want %s", name, got, tt.want)
		}
	}
}

func TestFilter(t *testing.T) {
	old := session(1, "idle")
	old.Started = noon.Add(-time.Hour)
	odd := session(2, "written")
	odd.Account, odd.Application, odd.Client = catalog.Principal{Name: "a@b", Host: "10.%"}, "", "::1"
	list := []catalog.Session{old, odd, session(3, "busy"), session(4, "own"), session(5, "backup"),
		session(6, "replication"), session(7, "engine")}
	for _, tt := range []struct {
		filter Filter
		want   string
	}{
		{Filter{}, ""},
		{Filter{Database: "tickets_prod"}, "1 2 3"},
		{Filter{Account: "tickets_app"}, "1 3"}, {Filter{Account: "tickets_app@10.%"}, ""},
		{Filter{Account: "a@b"}, "2"},
		{Filter{Application: "booking-desk"}, "1 3"}, {Filter{Client: "10.0.0.3"}, "1 3"}, {Filter{Client: "::1"}, "2"},
		{Filter{Class: Written}, "2"}, {Filter{Class: Backup}, ""}, {Filter{Class: Own}, ""},
		{Filter{IdleLonger: 59}, "1 2"}, {Filter{IdleLonger: 61}, ""}, {Filter{Older: 3600}, "1"},
		{Filter{Older: 50}, "1 2"},
		{Filter{Database: "tickets_prod", IdleLonger: 30, Class: Idle}, "1"},
	} {
		var got []string
		for _, s := range tt.filter.Pick(list, noon) {
			got = append(got, fmt.Sprint(s.ID.Number))
		}
		if strings.Join(got, " ") != tt.want {
			t.Errorf("%+v picks %v; want %q", tt.filter, got, tt.want)
		}
		if err := tt.filter.Check(); err != nil || tt.filter.Empty() != (tt.filter.String() == "") {
			t.Errorf("%+v: %v, %q", tt.filter, err, tt.filter)
		}
	}
	for _, f := range []Filter{{Class: "sleepy"}, {Older: -1}} {
		if f.Check() == nil {
			t.Errorf("%+v passes", f)
		}
	}
	for n, want := range map[int]string{0: "0s", 10: "10s", 60: "1m", 90: "1m30s", 600: "10m", 3600: "1h", 36000: "10h",
		3661: "1h1m1s", 4200: "1h10m"} {
		if got := Span(n); got != want {
			t.Errorf("Span(%d) = %s; want %s", n, got, want)
		}
	}
}

func TestGroups(t *testing.T) {
	list := crowd("busy idle idle written")
	list[3].Application = ""
	g := Groups(list)
	if len(g) != 2 || g[0].N != 3 || g[0].String() != "booking-desk as tickets_app from 10.0.0.3: 1 busy, 2 idle" ||
		g[1].String() != "no program named, as tickets_app from 10.0.0.3: 1 written work" {
		t.Errorf("groups %v", g)
	}
}

// TestWaits: each blocker stands above those that wait for it, also behind
// others, for several, and in a ring.
func TestWaits(t *testing.T) {
	for name, tt := range map[string]struct{ blocked, want string }{
		"nobody":   {"", ""},
		"a chain":  {"2<1 3<2", "1(2) .2(1) ..3(0)"},
		"two wait": {"2<1 3<1", "1(2) .2(0) .3(0)"},
		"for two":  {"3<1 3<2", "1(1) .3(0) 2(1) .3(0)again"},
		"a ring":   {"1<2 2<1", "1(2) .2(1) ..1(0)again"},
		"one gone": {"1<9", ""},
	} {
		list := crowd("idle busy busy")
		for _, pair := range strings.Fields(tt.blocked) {
			var waits, blocks int64
			fmt.Sscanf(pair, "%d<%d", &waits, &blocks)
			list[waits-1].BlockedBy = append(list[waits-1].BlockedBy, blocks)
		}
		var got []string
		for _, w := range Waits(list) {
			text := fmt.Sprintf("%s%d(%d)", strings.Repeat(".", w.Depth), w.Session.ID.Number, w.Blocks)
			if w.Again {
				text += "again"
			}
			got = append(got, text)
		}
		if strings.Join(got, " ") != tt.want {
			t.Errorf("%s: %v; want %s", name, got, tt.want)
		}
	}
}

// TestConcerning: of the trees only those stay, whole, in which somebody is meant.
func TestConcerning(t *testing.T) {
	list := crowd("idle busy busy busy")
	list[1].BlockedBy, list[3].BlockedBy = []int64{1}, []int64{3}
	for meant, want := range map[int64]string{2: "1 2", 1: "1 2", 4: "3 4", 9: ""} {
		var got []string
		for _, w := range Concerning(Waits(list), func(s catalog.Session) bool { return s.ID.Number == meant }) {
			got = append(got, fmt.Sprint(w.Session.ID.Number))
		}
		if strings.Join(got, " ") != want {
			t.Errorf("concerning %d: %v; want %s", meant, got, want)
		}
	}
}

// TestAddress: a client's address without its port, as either engine shows it.
func TestAddress(t *testing.T) {
	for client, want := range map[string]string{"10.0.0.3": "10.0.0.3", "10.0.0.3:4711": "10.0.0.3", "::1": "::1",
		"[fe80::1]:4711": "fe80::1", "fe80::1:4711": "fe80::1:4711", "localhost": "localhost", "": "", "[": "["} {
		if got := Address(client); got != want {
			t.Errorf("Address(%q) = %q, want %q", client, got, want)
		}
	}
}

// TestSeriesIsBounded: however long a clearing takes, its picture stays small,
// and keeps its beginning and its end.
func TestSeriesIsBounded(t *testing.T) {
	m := New(Rules{Target: Target{Database: "tickets_prod"}, WhenEmpty: time.Hour}, noon)
	for i := range 3000 {
		m.Saw(noon.Add(time.Duration(i)*time.Second), crowd(strings.Repeat("idle ", 1+i%7)))
	}
	p := m.Progress()
	if n := len(p.Series); n < MaxSeries/3 || n > MaxSeries+1 || p.Series[0].At != 0 || p.Series[n-1].At != 2999000 {
		t.Errorf("%d points, from %v to %v", n, p.Series[0], p.Series[n-1])
	}
}
