package wire

import "time"

// History is what a server or a database was over time, evenly spaced.
type History struct {
	Address string         `json:"address"`
	From    time.Time      `json:"from"`
	Until   time.Time      `json:"until"`
	Seconds int            `json:"seconds" doc:"That each point stands for."`
	Points  []HistoryPoint `json:"points" nullable:"false" doc:"At most 400, the oldest first."`
}

// HistoryPoint is the highest that was seen from its time until the next point.
type HistoryPoint struct {
	At       time.Time `json:"at"`
	Size     *int64    `json:"size,omitempty" doc:"Bytes; absent: not known."`
	Sessions int       `json:"sessions" doc:"Of clients, at once."`
	Missing  bool      `json:"missing,omitempty" doc:"Nobody looked, or the server did not answer."`
}

// Attention is what needs a look, the most urgent first.
type Attention struct {
	Items []AttentionItem `json:"items" nullable:"false"`
	// Unread are servers whose accounts could not be looked through.
	Unread []string  `json:"unread" nullable:"false" doc:"Servers whose accounts could not be looked through in time."`
	Trends []History `json:"trends" nullable:"false" doc:"The last day of each server."`
	Read   time.Time `json:"read"`
}

// AttentionItem is one thing that needs a look.
type AttentionItem struct {
	Code    string   `json:"code" enum:"server.silent,server.identity,server.connections,change.stuck,change.waiting,accounts.traps,holding.due"`
	Urgent  bool     `json:"urgent" doc:"Something is broken or held up."`
	Server  string   `json:"server,omitempty"`
	Change  uint64   `json:"change,omitempty"`
	Text    string   `json:"text" doc:"A whole sentence."`
	More    []string `json:"more" nullable:"false" doc:"What it is made of, in sentences; at most 20."`
	Count   int      `json:"count" doc:"Of how many things it tells."`
	Next    string   `json:"next,omitempty"`
	Actions []Action `json:"actions,omitempty" nullable:"false"`
}
