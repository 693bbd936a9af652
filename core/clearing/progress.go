package clearing

import (
	"slices"
	"strings"
	"time"

	"example.com/genarch/core/catalog"
)

// Progress is a clearing as a person follows it and as the journal keeps it.
// Everything in it is bounded.
type Progress struct {
	Phase     Phase     `json:"phase"`
	Began     time.Time `json:"began"`
	GraceEnds time.Time `json:"grace_ends,omitzero"`
	// Found is how many there were at the first look, Left how many are in the
	// target now (-1: not looked yet), Ended how many were ended.
	Found int `json:"found"`
	Left  int `json:"left"`
	Ended int `json:"ended"`
	// Gone is how many left by themselves, Came how many came meanwhile.
	Gone int `json:"gone"`
	Came int `json:"came"`
	// Who are those that are left, at most [MaxShown].
	Who []Present `json:"who,omitempty"`
	// EndedWho are those that were ended, in words, at most [MaxKept].
	EndedWho []string `json:"ended_who,omitempty"`
	// Returned are those that came back although the gate was closed.
	Returned []string `json:"returned,omitempty"`
	// Series is how many were left at which time, at most [MaxSeries] points.
	Series []Point `json:"series,omitempty"`
	// Why and Next are set when it has given up.
	Why  string `json:"why,omitempty"`
	Next string `json:"next,omitempty"`
}

// The bounds of a progress.
const (
	MaxShown  = 20
	MaxKept   = 200
	MaxSeries = 120
)

// Present is one session that is still there.
type Present struct {
	ID          catalog.SessionID `json:"id"`
	Account     string            `json:"account"`
	Application string            `json:"application,omitempty"`
	Client      string            `json:"client,omitempty"`
	Class       Class             `json:"class"`
	Progress    string            `json:"progress,omitempty"`
}

// Point is how many sessions were left, milliseconds after the beginning.
type Point struct {
	At   int64 `json:"at"`
	Left int   `json:"left"`
}

// Progress is how far the machine is. The caller may keep it.
func (m *Machine) Progress() Progress {
	p := m.p
	p.Who = append([]Present(nil), p.Who...)
	p.EndedWho = append([]string(nil), p.EndedWho...)
	p.Returned = append([]string(nil), p.Returned...)
	p.Series = append([]Point(nil), p.Series...)
	return p
}

// note keeps what a look showed.
func (m *Machine) note(now time.Time, in []catalog.Session) {
	here := make(map[catalog.SessionID]bool, len(in))
	before := make(map[catalog.SessionID]bool, len(m.last))
	for _, s := range in {
		here[s.ID] = true
	}
	for _, s := range m.last {
		before[s.ID] = true
		if _, ended := m.ended[s.ID]; !ended && !here[s.ID] {
			m.p.Gone++
		}
	}
	for _, s := range in {
		if !before[s.ID] && !m.first[s.ID] {
			m.p.Came++
			if !m.closing.IsZero() && len(m.p.Returned) < MaxKept {
				m.p.Returned = append(m.p.Returned, Who(s))
			}
		}
	}
	m.last = in
	m.p.Left = len(in)
	m.p.Who = m.p.Who[:0]
	for _, s := range in[:min(len(in), MaxShown)] {
		m.p.Who = append(m.p.Who, Present{s.ID, s.Account.String(), s.Application, s.Client, Classify(s), s.Progress})
	}
	m.p.point(now, len(in))
}

// point adds to the series; when it is full, every second point is dropped.
func (p *Progress) point(now time.Time, left int) {
	at := now.Sub(p.Began).Milliseconds()
	n := len(p.Series)
	if n > 1 && p.Series[n-1].Left == left && p.Series[n-2].Left == left {
		p.Series[n-1].At = at // a level stretch needs its two ends only
		return
	}
	if n >= MaxSeries {
		thin := p.Series[:0]
		for i, q := range p.Series {
			if i%2 == 0 || i == n-1 {
				thin = append(thin, q)
			}
		}
		p.Series = thin
	}
	p.Series = append(p.Series, Point{at, left})
}

func (p *Progress) unended(s catalog.Session) {
	p.Ended--
	p.EndedWho = slices.DeleteFunc(p.EndedWho, func(t string) bool { return strings.HasPrefix(t, Who(s)+",") })
}

func (p *Progress) ended(s catalog.Session) {
	p.Ended++
	if len(p.EndedWho) < MaxKept {
		p.EndedWho = append(p.EndedWho, Who(s)+", "+Classify(s).String())
	}
}
