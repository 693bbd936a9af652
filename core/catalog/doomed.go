package catalog

// Doomed is what has to be known of a database before it is taken away or moved:
// what would be lost, who else needs it, what stands in the way.
type Doomed struct {
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
	// OnlyFor are accounts that have something in no other database.
	OnlyFor []string
	// Dependents name what elsewhere needs it and would fail without it.
	Dependents []string
	// Perhaps is what names it together with a host that may be this server or not.
	Perhaps []string
	// OutsideKeys are foreign keys of other databases that point into it (MariaDB).
	OutsideKeys []string
	// Slots are logical replication slots, Subscriptions what it receives (PostgreSQL).
	Slots         []Slot
	Subscriptions []string
	// Prepared are prepared transactions of it; on MariaDB of the whole server.
	Prepared []Prepared
	// Detached are transactions without a session that hold rows (MariaDB).
	Detached int
	// Backup says that a backup of the server runs; empty: none is seen.
	Backup string
	// Cluster: the server is a node of a cluster, where a drop waits for nobody.
	Cluster bool
	// Events are the scheduled events that are enabled (MariaDB).
	Events []string
	// Unseen says what could not be looked at, and what would allow it.
	Unseen []string
}

// Count is how many there are of something.
type Count struct {
	What string `json:"what"`
	N    int    `json:"n"`
}

// Slot is a logical replication slot.
type Slot struct {
	Name   string
	Active bool
}
