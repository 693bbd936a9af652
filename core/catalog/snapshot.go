package catalog

// Snapshot is everything that a planner may know of a server: a fresh reading
// of what bears on one intent. Planners never ask a server themselves.
type Snapshot struct {
	Server   Server
	Instance Instance
	// Names are the names of all databases that the login can see.
	Names []string
	// Target is the database that the intent names, if there is one.
	Target *Database
	// TargetComment etc. live in Target. Template is the chosen template.
	Template *Template
	// TemplateUsers says who sits in the template: "account from address".
	TemplateUsers []string
	Choices       Choices
	// OwnerFound: the role or account asked for as owner, as the server
	// writes it; several where a name without a host fits several accounts.
	OwnerFound []string
	// OwnerAllowed: the login may make a database for that owner.
	OwnerAllowed bool
	// Leftover are grants that would come alive with the new name, as text.
	Leftover []string
	// FoldsCase: the server stores names in lower case.
	FoldsCase bool
}
