package wire

// The kinds of intents.
const (
	KindCreateDatabase  = "database.create"
	KindAlterDatabase   = "database.alter"
	KindDropDatabase    = "database.drop"
	KindRenameDatabase  = "database.rename"
	KindSetAside        = "database.set_aside"
	KindFillDatabase    = "database.fill"
	KindBringBack       = "holding.bring_back"
	KindDiscard         = "holding.discard"
	KindKeepHolding     = "holding.keep"
	KindEndSessions     = "session.end"
	KindMarkServer      = "server.mark"
	KindCreateAccount   = "account.create"
	KindAlterAccount    = "account.alter"
	KindRenameAccount   = "account.rename"
	KindSetPassword     = "account.password"
	KindDropAccount     = "account.drop"
	KindSetAsideAccount = "account.set_aside"
	KindGrantRole       = "role.grant"
	KindRevokeRole      = "role.revoke"
	KindGrantPrivilege  = "privilege.grant"
	KindRevokePrivilege = "privilege.revoke"
)

// The states of a change.
const (
	StateDraft     = "draft"
	StateWaiting   = "waiting"
	StateReady     = "ready"
	StateRunning   = "running"
	StateDone      = "done"
	StateReverted  = "reverted"
	StateStuck     = "stuck"
	StateDeclined  = "declined"
	StateWithdrawn = "withdrawn"
	StateExpired   = "expired"
)

// What became of a step.
const (
	StepPlanned    = "planned"
	StepBegun      = "begun"
	StepUnknown    = "unknown"
	StepDone       = "done"
	StepFailed     = "failed"
	StepUndone     = "undone"
	StepUndoing    = "undoing"
	StepUndoFailed = "undo_failed"
	StepHarmed     = "harmed"
)

// The kinds of steps that every engine has.
const (
	StepClearSessions = "clear_sessions"
	StepVerify        = "verify"
)

// The levels of findings.
const (
	LevelStop    = "stop"
	LevelCaution = "caution"
	LevelNote    = "note"
)

// What becomes of the sessions that a change is about.
const (
	SessionsEnded   = "ended"
	SessionsWaited  = "waited"
	SessionsStopped = "stopped"
)

// The classes of sessions: what ending one would mean.
const (
	ClassIdle          = "idle"
	ClassBusy          = "busy"
	ClassInTransaction = "in_transaction"
	ClassWritten       = "written"
	ClassEnding        = "ending"
	ClassHidden        = "hidden"
	ClassOwn           = "own"
	ClassEngine        = "engine"
	ClassWorker        = "worker"
	ClassBackup        = "backup"
	ClassReplication   = "replication"
)

// How far a clearing is.
const (
	PhaseWaiting = "waiting"
	PhaseEnding  = "ending"
	PhaseCleared = "cleared"
	PhaseGivenUp = "given_up"
)

// Where the password of an account comes from.
const (
	PasswordGenerated = "generated"
	PasswordGiven     = "given"
	PasswordNone      = "none"
)

// The permissions of operators.
const (
	PermissionView    = "view"
	PermissionRequest = "request"
	PermissionRun     = "run"
	PermissionAdmin   = "admin"
)
