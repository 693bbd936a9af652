package catalog

// DropImpact is what has to be known of a database before it is taken away or moved:
// what would be lost, who else needs it, what stands in the way.
type DropImpact struct {
	// Details are what only the engine's own planner reads of it; never kept.
	Details any
	// Objects counts what it holds, by the engine's words: tables, views, …
	Objects []Count
	// Rows is the server's own estimate; nil: not known.
	Rows *int64
	// Own: it holds the records of a Genarch, or Genarch signs in to it.
	Own string
	// MayDrop: Genarch's login may drop it; Denied is why not, Remedy what would allow it.
	MayDrop bool
	Denied  string
	Remedy  string
	// ExclusiveAccounts are accounts that have something in no other database.
	ExclusiveAccounts []string
	// Dependents name what elsewhere needs it and would fail without it.
	Dependents []string
	// PossibleDependents is what names it together with a host that may be this server or not.
	PossibleDependents []string
	// Prepared are prepared transactions of it, or of the whole server where that does
	// not tell them apart.
	Prepared []Prepared
	// Backup says that a backup of the server runs; empty: none is seen.
	Backup string
	// Unseen says what could not be looked at, and what would allow it.
	Unseen []string
}

// Count is how many there are of something.
type Count struct {
	What string `json:"what"`
	N    int    `json:"n"`
}
