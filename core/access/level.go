package access

import (
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
)

// Level is what an account has on a database, in one word.
type Level uint8

// The levels. Connect is only a way in, without anything to do there (PostgreSQL
// opens that to everybody at first); Custom fits no bundle; Unknown: the
// database could not be looked into.
const (
	None Level = iota
	Unknown
	Connect
	Custom
	Read
	Write
	Build
	Own
)

var levelNames = [...]string{"none", "unknown", "connect", "custom", "read", "write", "build", "own"}

// String is the word.
func (l Level) String() string { return levelNames[l] }

// LevelNamed finds a level by its word.
func LevelNamed(word string) (Level, bool) {
	i := slices.Index(levelNames[:], word)
	return Level(max(i, 0)), i >= 0
}

// Cell is the level with what it does not say.
type Cell struct {
	Level Level
	// More: it has more than the bundle of that name.
	More bool
	// Gap: what will be made later is not covered (PostgreSQL).
	Gap bool
}

// Matrix is what every account has on every database.
type Matrix struct {
	Accounts  []catalog.Principal
	Databases []string
	// Cells holds a row for each account, len(Databases) long.
	Cells []Cell
}

// At is the cell of an account and a database, by position.
func (m Matrix) At(account, database int) Cell { return m.Cells[account*len(m.Databases)+database] }

// Matrix computes all cells. Only accounts and databases that keep reports are
// in it; a nil keep takes all.
func (g *Graph) Matrix(keepAccount func(catalog.Account) bool, keepDatabase func(catalog.AccessDatabase) bool) Matrix {
	var m Matrix
	var rows []int32
	for _, a := range g.access.Accounts {
		if keepAccount == nil || keepAccount(a) {
			m.Accounts = append(m.Accounts, a.Principal)
			rows = append(rows, g.index[a.Principal])
		}
	}
	var columns []int
	for i, d := range g.access.Databases {
		if keepDatabase == nil || keepDatabase(d) {
			m.Databases = append(m.Databases, d.Name)
			columns = append(columns, i)
		}
	}
	m.Cells = make([]Cell, len(rows)*len(columns))
	// Databases do not bear on each other, so each processor takes the next one.
	var next atomic.Int64
	var all sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(columns)) {
		all.Go(func() {
			var buffer []uint64
			var sets []privilege.Set
			for col := int(next.Add(1)) - 1; col < len(columns); col = int(next.Add(1)) - 1 {
				var width int
				buffer, width = g.onDatabase(columns[col], buffer)
				// Most accounts have on a database just what many others have.
				var last []uint64
				var cell Cell
				for row, v := range rows {
					have := buffer[int(v)*width : int(v+1)*width]
					if last == nil || !slices.Equal(have, last) {
						sets = g.unpack(have, sets)
						cell, last = g.rules.Level(columns[col], sets), have
					}
					m.Cells[row*len(columns)+col] = cell
				}
			}
		})
	}
	all.Wait()
	return m
}

// Level judges what one account has on one database.
func (g *Graph) Level(p catalog.Principal, database string) Cell {
	v, ok := g.index[p]
	db, found := g.database[database]
	if !ok || !found {
		return Cell{}
	}
	sets, width := g.onDatabase(db, nil)
	return g.rules.Level(db, g.unpack(sets[int(v)*width:int(v+1)*width], nil))
}

// Effective is what p has on an object, all ways taken together: what its
// engine would answer. An object that the reading does not hold has nothing.
func (g *Graph) Effective(p catalog.Principal, o catalog.Object) privilege.Set {
	v, ok := g.index[p]
	if !ok {
		return privilege.Set{}
	}
	if o.Scope == catalog.ScopeServer {
		return g.rules.Table().Unpack(g.base[int(v)*g.words : int(v+1)*g.words])
	}
	var held, refused, everywhere privilege.Set
	for _, w := range g.ways(v, o, false) {
		switch {
		case w.deny:
			refused = refused.Or(w.set)
		case w.everywhere:
			everywhere = everywhere.Or(w.set)
		default:
			held = held.Or(w.set)
		}
	}
	return held.Minus(refused).Or(everywhere)
}
