package wire

import "time"

// Intent is what a person asks for: a kind and the fields of that kind.
type Intent struct {
	Kind     string        `json:"kind" enum:"database.create,database.alter,database.drop,database.rename,database.set_aside,database.fill,holding.bring_back,holding.discard,holding.keep,session.end,server.mark,account.create,account.alter,account.rename,account.password,account.drop,account.set_aside,role.grant,role.revoke,privilege.grant,privilege.revoke"`
	Server   string        `json:"server" maxLength:"40"`
	Database *DatabaseSpec `json:"database,omitempty" doc:"For the kinds that begin with database."`
	Holding  *HoldingSpec  `json:"holding,omitempty" doc:"For the kinds that begin with holding."`
	Clearing *ClearingSpec `json:"clearing,omitempty" doc:"How to go about sessions that are in the way: for database.drop, .set_aside, .rename, .alter with another tablespace, account.drop; with database.create it lets the template be cleared, with account.alter and a lock it ends the account's sessions."`
	Sessions *SessionsSpec `json:"sessions,omitempty" doc:"For session.end."`
	Account  *AccountSpec  `json:"account,omitempty" doc:"For the kinds that begin with account."`
	Member   *MemberSpec   `json:"member,omitempty" doc:"For role.grant and role.revoke."`
	Grant    *GrantSpec    `json:"grant,omitempty" doc:"For privilege.grant and privilege.revoke."`
}

// DatabaseSpec is what is asked for of one database.
type DatabaseSpec struct {
	Name        string    `json:"name" maxLength:"2000"`
	IfNotExists bool      `json:"if_not_exists,omitempty" doc:"database.create: do nothing if it is there, and say what differs."`
	IfExists    bool      `json:"if_exists,omitempty" doc:"database.drop, .set_aside: do nothing if it is not there."`
	NewName     string    `json:"new_name,omitempty" maxLength:"2000" doc:"For database.rename."`
	KeepDays    int       `json:"keep_days,omitempty" minimum:"0" maximum:"3650" doc:"database.set_aside: for how many days; 0: as the environment has it."`
	Script      string    `json:"script,omitempty" maxLength:"64" doc:"database.fill: the script, which POST /servers/{server}/scripts took in."`
	Team        *TeamSpec `json:"team,omitempty" doc:"database.create: make, in the same change, an owner role and two accounts that are tried afterwards."`
	// Blueprint is the recipe that the rest is taken from.
	Blueprint *BlueprintUse `json:"blueprint,omitempty" doc:"database.create: take from it what is not given here."`
	// Options are the engine's own fields.
	Options map[string]any `json:"options,omitempty" doc:"The options of the engine, by name, as GET /engines describes them: texts, whole numbers, yes or no, lists of texts, rows. What is absent is left as it is, or to the defaults, which the brief shows."`
}

// BlueprintUse says which blueprint to use, and with which values.
type BlueprintUse struct {
	Name    string            `json:"name" maxLength:"40"`
	Version int               `json:"version,omitempty" minimum:"0" doc:"0 or absent: the latest one."`
	With    map[string]string `json:"with,omitempty" doc:"The values of its parameters."`
}

// Finding is something that a brief points out.
type Finding struct {
	Code       string   `json:"code"`
	Level      string   `json:"level" enum:"stop,caution,note"`
	Text       string   `json:"text"`
	Next       string   `json:"next,omitempty" doc:"What to do about it."`
	Actions    []Action `json:"actions,omitempty" nullable:"false" doc:"Ways to do that."`
	Option     string   `json:"option,omitempty" doc:"The option that it is about."`
	Suggestion string   `json:"suggestion,omitempty" doc:"A value that would do."`
	Unseen     bool     `json:"unseen,omitempty" doc:"It tells of what cannot be looked at from here."`
}

// Setting is one property that the object will have.
type Setting struct {
	Name    string  `json:"name"`
	Title   string  `json:"title,omitempty" doc:"What people call it; absent: the name."`
	Was     *string `json:"was,omitempty" doc:"What it is now, where the change alters it."`
	Value   string  `json:"value"`
	Asked   bool    `json:"asked" doc:"False: it is a default."`
	Source  string  `json:"source,omitempty" doc:"Where the default comes from."`
	Decides string  `json:"decides,omitempty" doc:"What the setting decides."`
	Fixed   bool    `json:"fixed" doc:"It cannot be changed later."`
}

// Difference is a property in which what exists is not what was asked.
type Difference struct {
	Name   string `json:"name"`
	Asked  string `json:"asked"`
	Actual string `json:"actual"`
}

// Message is something that the server said while a step ran.
type Message struct {
	Severity string `json:"severity"`
	Code     string `json:"code,omitempty"`
	Text     string `json:"text"`
	Account  string `json:"account,omitempty" doc:"Whose proof it is."`
}

// Failure is why something did not work.
type Failure struct {
	Kind    string   `json:"kind" doc:"not_sent, refused, unknown or differs."`
	Code    string   `json:"code,omitempty" doc:"The engine's own."`
	Text    string   `json:"text"`
	Next    string   `json:"next,omitempty"`
	Actions []Action `json:"actions,omitempty" nullable:"false" doc:"Ways to do that."`
	Passing bool     `json:"passing,omitempty" doc:"What stood in the way is of the moment: the same may succeed a little later."`
}

// Step is one unit that runs, and what became of it.
type Step struct {
	Kind         string     `json:"kind"`
	Title        string     `json:"title"`
	Statement    string     `json:"statement,omitempty"`
	Undo         string     `json:"undo,omitempty" doc:"The statement that rolls it back."`
	Restores     bool       `json:"restores,omitempty" doc:"The undo is several statements, which put back what was there before."`
	ReadOnly     bool       `json:"read_only"`
	Status       string     `json:"status" enum:"planned,begun,unknown,done,failed,undone,undoing,undo_failed,harmed"`
	Irreversible bool       `json:"irreversible" doc:"What it did cannot be rolled back, and need not be: sessions that were ended."`
	Clearing     *Clearing  `json:"clearing,omitempty" doc:"How far a step that clears sessions is."`
	Work         *Work      `json:"work,omitempty" doc:"How far a step is that takes long."`
	Probed       bool       `json:"probed" doc:"Its outcome was found out by looking."`
	Messages     []Message  `json:"messages" nullable:"false"`
	Failure      *Failure   `json:"failure,omitempty"`
	Begun        *time.Time `json:"begun,omitempty"`
	Ended        *time.Time `json:"ended,omitempty"`
}

// Work is how far a step is that takes long.
type Work struct {
	What  string `json:"what" doc:"What is worked at just now."`
	Done  int64  `json:"done"`
	Total int64  `json:"total" doc:"0: not known; an estimate may be exceeded."`
	Unit  string `json:"unit" doc:"What done and total count: rows, bytes."`
}

// Brief is what a change would do.
type Brief struct {
	Target      string          `json:"target"`
	Engine      string          `json:"engine"`
	Environment string          `json:"environment"`
	Identity    string          `json:"identity"`
	Summary     string          `json:"summary"`
	Outcome     string          `json:"outcome" enum:"acts,nothing"`
	Stopped     bool            `json:"stopped" doc:"A finding forbids it."`
	Settings    []Setting       `json:"settings" nullable:"false"`
	Findings    []Finding       `json:"findings" nullable:"false"`
	Differences []Difference    `json:"differences" nullable:"false"`
	Steps       []Step          `json:"steps" nullable:"false"`
	Affected    []ServerSession `json:"affected" nullable:"false" doc:"The sessions that it would end or wait for, at most 200."`
	AffectedAll int             `json:"affected_all" doc:"How many they are."`
	Impact      *Impact         `json:"impact,omitempty" doc:"What it would take away or disconnect; absent: nothing."`
	Confirm     string          `json:"confirm,omitempty" doc:"The name that has to be typed before it may run."`
	Read        time.Time       `json:"read"`
	Fingerprint string          `json:"fingerprint"`
}

// Impact is what a change would take away and disconnect, in figures.
type Impact struct {
	Lost       bool    `json:"lost" doc:"Something would be taken away: the figures say what."`
	Objects    []Count `json:"objects" nullable:"false" doc:"What would be lost, by the engine's words."`
	Rows       *int64  `json:"rows,omitempty" doc:"Rows that would be lost, by the server's own estimate."`
	Size       *int64  `json:"size,omitempty" doc:"Bytes that would be lost."`
	Dependents int     `json:"dependents" doc:"Objects elsewhere that are known to need what would be lost."`
	Final      bool    `json:"final" doc:"Genarch cannot bring it back."`
	KeptUntil  string  `json:"kept_until,omitempty" doc:"Until that day it can be brought back."`
	Sessions   int     `json:"sessions" doc:"Sessions that it is about."`
	How        string  `json:"how" enum:"ended,waited,stopped" doc:"What becomes of them, or of their statement."`
	Writing    int     `json:"writing" doc:"How many of those have written work that is not committed; of the first 200."`
	Hidden     int     `json:"hidden" doc:"How many of those do what cannot be seen."`
}

// Count is how many there are of something.
type Count struct {
	What string `json:"what"`
	N    int    `json:"n"`
}

// Change is one intended alteration, from draft to outcome.
type Change struct {
	ID               uint64     `json:"id"`
	Kind             string     `json:"kind"`
	Server           string     `json:"server"`
	Target           string     `json:"target"`
	Asked            Intent     `json:"asked" doc:"What was asked for; a password that was given is left out."`
	State            string     `json:"state" enum:"draft,waiting,ready,running,done,reverted,stuck,declined,withdrawn,expired"`
	Ended            bool       `json:"ended" doc:"Nothing more happens to it."`
	Operator         string     `json:"operator" doc:"Who asked."`
	RunBy            string     `json:"run_by,omitempty"`
	StopBy           string     `json:"stop_by,omitempty" doc:"Who asked for it to be stopped while it ran."`
	Stoppable        bool       `json:"stoppable" doc:"It runs, and everything done so far can be rolled back."`
	Result           string     `json:"result,omitempty"`
	Failure          *Failure   `json:"failure,omitempty"`
	Accepted         []string   `json:"accepted" nullable:"false" doc:"The cautions that were accepted."`
	Brief            Brief      `json:"brief"`
	PendingPasswords []string   `json:"pending_passwords" nullable:"false" doc:"The accounts whose generated passwords can still be shown, once, to who asked."`
	Created          time.Time  `json:"created"`
	Started          *time.Time `json:"started,omitempty"`
	Finished         *time.Time `json:"finished,omitempty"`
}

// ChangeList is a page of changes, the newest first, with their briefs left out.
type ChangeList struct {
	Changes []ChangeLine `json:"changes" nullable:"false"`
	Next    uint64       `json:"next,omitempty" doc:"Give this as before to read on."`
}

// ChangeLine is a change in a list.
type ChangeLine struct {
	ID          uint64     `json:"id"`
	Kind        string     `json:"kind"`
	Server      string     `json:"server"`
	Target      string     `json:"target"`
	Environment string     `json:"environment"`
	Summary     string     `json:"summary"`
	State       string     `json:"state"`
	Operator    string     `json:"operator"`
	RunBy       string     `json:"run_by,omitempty"`
	Result      string     `json:"result,omitempty"`
	Created     time.Time  `json:"created"`
	Started     *time.Time `json:"started,omitempty"`
	Finished    *time.Time `json:"finished,omitempty"`
}

// Run lets a change run.
type Run struct {
	Fingerprint string   `json:"fingerprint" doc:"That of the brief which was read; if the brief is another one by now, nothing runs."`
	Accept      []string `json:"accept,omitempty" nullable:"false" doc:"The codes of the cautions that are accepted."`
	Confirm     string   `json:"confirm,omitempty" maxLength:"800" doc:"The name, where the brief asks for it to be typed."`
	Wait        int      `json:"wait,omitempty" minimum:"0" maximum:"60" doc:"Seconds to wait for its end before answering."`
}

// Stop stops a running change.
type Stop struct {
	Wait int `json:"wait,omitempty" minimum:"0" maximum:"60" doc:"Seconds to wait for its end before answering."`
}
