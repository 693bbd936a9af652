package change

// The stable codes of findings. Each comment gives an example; the planners'
// tests run every one of them.
const (
	// NameTaken: create tickets_prod where there is a tickets_prod.
	NameTaken = "name.taken"
	// NameTakenByCase: create tickets_prod beside Tickets_Prod.
	NameTakenByCase = "name.taken_by_case"
	// NameLookalike: create tickets-prod beside tickets_prod.
	NameLookalike = "name.lookalike"
	// OptionUnsupported: a tablespace on MariaDB.
	OptionUnsupported = "option.unsupported"
	// OptionInvalid: a connection limit of -7.
	OptionInvalid = "option.invalid"
	// OwnerAbsent: an owner that does not exist.
	OwnerAbsent = "owner.absent"
	// OwnerAmbiguous: owner sailings_app where it exists at two hosts.
	OwnerAmbiguous = "owner.ambiguous"
	// OwnerDenied: Genarch's login may not make a database for that owner.
	OwnerDenied = "owner.denied"
	// OwnerConcept: MariaDB has no owners; the account gets a bundle instead.
	OwnerConcept = "owner.bundle"
	// EncodingUnknown: encoding utf-9.
	EncodingUnknown = "encoding.unknown"
	// CollationUnknown: a collation that the server does not have.
	CollationUnknown = "collation.unknown"
	// CollationUnlisted: a libc locale that only the server itself can judge.
	CollationUnlisted = "collation.unlisted"
	// CollationMismatch: latin1_swedish_ci with utf8mb4.
	CollationMismatch = "collation.mismatch"
	// ProviderUnknown: provider builtin on a version without it.
	ProviderUnknown = "provider.unknown"
	// LocaleMissing: provider icu without a locale.
	LocaleMissing = "locale.missing"
	// TemplateAbsent: a template that does not exist.
	TemplateAbsent = "template.absent"
	// TemplateMismatch: another encoding than that of the chosen template.
	TemplateMismatch = "template.mismatch"
	// TemplateInUse: somebody is connected to the template.
	TemplateInUse = "template.in_use"
	// TemplateDenied: the login may not copy that database.
	TemplateDenied = "template.denied"
	// TemplateSwitched: template0 is taken since encoding or locale differ.
	TemplateSwitched = "template.switched"
	// TablespaceAbsent: a tablespace that does not exist.
	TablespaceAbsent = "tablespace.absent"
	// GrantsLeftover: old grants on that name would come alive.
	GrantsLeftover = "grants.leftover"
	// RightsMissing: the login may not create databases there.
	RightsMissing = "rights.missing"
	// ServerReadOnly: a standby, or read_only is on.
	ServerReadOnly = "server.read_only"
	// ServerHasIdentity: a server that is marked already, or needs no mark.
	ServerHasIdentity = "server.marked"
	// ExistsAsAsked: --if-absent, and it is there as asked.
	ExistsAsAsked = "exists.as_asked"
	// ExistsDifferent: --if-absent, and what is there differs.
	ExistsDifferent = "exists.different"
	// MadeMeanwhile: another change made it since; says who and when.
	MadeMeanwhile = "name.made_by_change"
)
