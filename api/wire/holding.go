package wire

import "time"

// HoldingSpec is what is asked for of a database or an account that was set aside.
type HoldingSpec struct {
	ID      string `json:"id" maxLength:"2000" doc:"The name under which it waits."`
	Account bool   `json:"account,omitempty" doc:"It is an account."`
	NewName string `json:"new_name,omitempty" maxLength:"2000" doc:"holding.bring_back: another name."`
	Until   string `json:"until,omitempty" maxLength:"10" doc:"holding.keep: the last day, as 2026-12-24."`
	Hold    string `json:"hold,omitempty" maxLength:"1200" doc:"holding.keep: why it must not be discarded."`
	Release bool   `json:"release,omitempty" doc:"holding.keep: there is no such reason any more."`
}

// Holding is a database or an account that was set aside, as its server shows it just now.
type Holding struct {
	Address     string  `json:"address" doc:"SERVER/holding:ID"`
	Kind        string  `json:"kind" enum:"database,account"`
	ID          string  `json:"id" doc:"The name under which it waits."`
	Server      string  `json:"server"`
	Engine      string  `json:"engine"`
	Environment string  `json:"environment"`
	Name        string  `json:"name" doc:"The one that it had."`
	Owner       string  `json:"owner,omitempty"`
	Since       string  `json:"since" doc:"The day on which it was set aside, in UTC."`
	Until       string  `json:"until" doc:"The last day on which it is kept for certain."`
	Due         bool    `json:"due" doc:"That is over: it may be discarded."`
	Discard     bool    `json:"discard" doc:"Genarch discards it itself then, while that is the rule of its server."`
	Hold        string  `json:"hold,omitempty" doc:"Why it must not be discarded."`
	Opened      bool    `json:"opened" doc:"Somebody opened it since, outside Genarch."`
	Size        *int64  `json:"size" doc:"Null: not known, or an account."`
	Tables      *int    `json:"tables" doc:"As it was set aside."`
	Comment     string  `json:"comment,omitempty" doc:"The one that it had."`
	SetAsideBy  *MadeBy `json:"set_aside_by,omitempty" doc:"The change that did it; absent: none is on record."`
}

// HoldingList is what was set aside.
type HoldingList struct {
	Holdings []Holding `json:"holdings" nullable:"false" doc:"Those that are over first."`
	Unread   []string  `json:"unread" nullable:"false" doc:"Servers that did not answer."`
	Read     time.Time `json:"read"`
}
