package wire

import "time"

// Operator is a person or a program that signs in to Genarch.
type Operator struct {
	Name        string    `json:"name"`
	Permissions []string  `json:"permissions" nullable:"false"`
	Program     bool      `json:"program" doc:"Signs in with a token only."`
	Disabled    bool      `json:"disabled"`
	Created     time.Time `json:"created,omitzero"`
}

// OperatorInput makes an operator.
type OperatorInput struct {
	Name        string   `json:"name" maxLength:"64"`
	Permissions []string `json:"permissions" nullable:"false"`
	Program     bool     `json:"program,omitempty"`
	Password    string   `json:"password,omitempty" maxLength:"256" doc:"For a person."`
}

// OperatorPatch alters an operator: what is absent stays as it is.
type OperatorPatch struct {
	Permissions *[]string `json:"permissions,omitempty"`
	Disabled    *bool     `json:"disabled,omitempty"`
	Password    *string   `json:"password,omitempty" maxLength:"256" doc:"Of somebody else: one's own is altered at /session/password."`
	// RevokeTokens ends tokens of programs too; those that were got by signing in
	// end with the password in any case.
	RevokeTokens bool `json:"revoke_tokens,omitempty" doc:"End every token of theirs."`
}

// PasswordChange sets one's own password.
type PasswordChange struct {
	Old string `json:"old" maxLength:"256"`
	New string `json:"new" maxLength:"256"`
}

// OperatorEdited is an operator after they were altered.
type OperatorEdited struct {
	Operator
	TokensLeft int `json:"tokens_left" doc:"Tokens of theirs that are still good."`
}

// ConsoleSession is a console that somebody is signed in to.
type ConsoleSession struct {
	ID      uint64    `json:"id"`
	Created time.Time `json:"created"`
	Used    time.Time `json:"used"`
	Address string    `json:"address"`
	Current bool      `json:"current" doc:"It is the one that asks."`
}

// Notice is something that was done to one's account and not told yet.
type Notice struct {
	At   time.Time `json:"at"`
	Text string    `json:"text"`
}

// SignIn is a person's name and password.
type SignIn struct {
	Name     string `json:"name" maxLength:"64"`
	Password string `json:"password" maxLength:"256"`
	Token    string `json:"token_title,omitempty" maxLength:"100" doc:"Ask for a token instead of a cookie, with this title."`
}

// Session says who is signed in.
type Session struct {
	Operator Operator `json:"operator"`
	CSRF     string   `json:"csrf,omitempty" doc:"To be sent as X-Genarch-CSRF with everything that alters something, when signed in by cookie."`
	Token    string   `json:"token,omitempty" doc:"Shown once."`
	Version  string   `json:"version"`
	Notices  []Notice `json:"notices,omitempty" nullable:"false" doc:"What others did to this account since the last sign-in; told once."`
}

// Token lets a program sign in.
type Token struct {
	ID          uint64     `json:"id"`
	Operator    string     `json:"operator"`
	Title       string     `json:"title"`
	Created     time.Time  `json:"created"`
	Expires     *time.Time `json:"expires,omitempty"`
	LastUsed    *time.Time `json:"last_used,omitempty"`
	Revoked     *time.Time `json:"revoked,omitempty"`
	Login       bool       `json:"login" doc:"It was got by signing in with a password, and ends with that."`
	Permissions []string   `json:"permissions,omitempty" nullable:"false" doc:"It may only do this of what its operator may; absent: all of it."`
	From        []string   `json:"from,omitempty" nullable:"false" doc:"The only addresses or networks that it is taken from; absent: all."`
	Secret      string     `json:"secret,omitempty" doc:"The token itself; shown once, when it is made."`
}

// TokenInput makes a token.
type TokenInput struct {
	Operator string `json:"operator" maxLength:"64"`
	Title    string `json:"title" minLength:"1" maxLength:"100"`
	Days     int    `json:"days,omitempty" minimum:"0" maximum:"3650" doc:"How long it lasts; 0 or absent: 90 days."`
	// Permissions and From narrow it.
	Permissions []string `json:"permissions,omitempty" nullable:"false" doc:"It may only do this of what its operator may; absent: all of it."`
	From        []string `json:"from,omitempty" nullable:"false" maxItems:"20" doc:"The only addresses or networks that it is taken from, such as 10.0.3.0/24; absent: all."`
}

// JournalEntry is one line of the journal.
type JournalEntry struct {
	Seq      uint64    `json:"seq"`
	At       time.Time `json:"at"`
	Operator string    `json:"operator"`
	Action   string    `json:"action"`
	Subject  string    `json:"subject"`
	Change   uint64    `json:"change,omitempty"`
	Token    uint64    `json:"token,omitempty" doc:"The token by which it was done."`
	Detail   any       `json:"detail,omitempty"`
	Hash     string    `json:"hash"`
}

// Journal is a page of the journal.
type Journal struct {
	Entries []JournalEntry `json:"entries" nullable:"false"`
	Next    uint64         `json:"next,omitempty" doc:"Give this as before to read on."`
}

// JournalCheck is the outcome of walking the whole chain.
type JournalCheck struct {
	Entries uint64 `json:"entries"`
	Whole   bool   `json:"whole"`
	Broken  string `json:"broken,omitempty" doc:"Where, and how."`
	// Checkpoint proves later, when it is kept elsewhere, that nothing up to it was
	// taken out or written anew.
	Checkpoint string `json:"checkpoint" doc:"What the last entry is now, sealed; give it as since to a later check."`
}

// Problem says what went wrong (RFC 9457), with a stable code and what to do next.
type Problem struct {
	Type        string          `json:"type,omitempty"`
	Title       string          `json:"title"`
	Status      int             `json:"status"`
	Code        string          `json:"code" doc:"Stable: not_found, brief.outdated, identity.changed, …"`
	Detail      string          `json:"detail"`
	Next        string          `json:"next,omitempty" doc:"What to do about it."`
	Actions     []Action        `json:"actions,omitempty" nullable:"false" doc:"Ways to do that."`
	EngineCode  string          `json:"engine_code,omitempty" doc:"The engine's own code."`
	Errors      []ProblemDetail `json:"errors,omitempty" nullable:"false"`
	Known       *Identity       `json:"known,omitempty" doc:"The registered instance."`
	Found       *Identity       `json:"found,omitempty" doc:"The instance that answered."`
	Differences []string        `json:"differences,omitempty" nullable:"false"`
	Cautions    []string        `json:"cautions,omitempty" nullable:"false" doc:"Codes that have to be accepted."`
	Change      *Change         `json:"change,omitempty" doc:"The change to go on with instead."`
}

// ProblemDetail points at one field of a bad request.
type ProblemDetail struct {
	Location string   `json:"location"`
	Message  string   `json:"message"`
	Next     string   `json:"next,omitempty" doc:"What to do about it."`
	Actions  []Action `json:"actions,omitempty" nullable:"false" doc:"Ways to do that."`
}

// ChangeEvent is sent when a change has moved on.
type ChangeEvent struct {
	Line   ChangeLine `json:"line"`
	Ended  bool       `json:"ended" doc:"Nothing more happens to it."`
	Change *Change    `json:"change,omitempty" doc:"The whole of it, for whoever asked for its number."`
}

// DatabaseEvent is sent when a database came, went or changed.
type DatabaseEvent struct {
	Server  string `json:"server"`
	Address string `json:"address"`
}

// ServerEvent is sent when a registration changed.
type ServerEvent struct {
	Server string `json:"server"`
}

// PingEvent keeps the line alive.
type PingEvent struct {
	At time.Time `json:"at"`
}
