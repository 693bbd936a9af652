// Package privilege has sets of what accounts may do on objects, which can be united
// and compared. Which privileges there are is each engine's own: a [Table] has their
// names, in the engine's words.
package privilege

import (
	"math/bits"
	"strings"
)

const (
	words = 4
	// MaxNames is how many privileges a table can have; two bits are [Own] and [Below].
	MaxNames = words*64 - 2
)

// Set is any number of privileges of one table. The zero value is none. Two sets are
// equal by == if the same privileges are in both.
type Set struct {
	table *Table // nil when no named privilege is in it
	bits  [words]uint64
}

const (
	ownBit   = 1 << 63
	belowBit = 1 << 62
	special  = ownBit | belowBit // of the last word
)

var (
	// Own is no privilege that can be granted: it stands for owning the object
	// (or acting as its owner), which lets one alter and drop it.
	Own = Set{bits: [words]uint64{words - 1: ownBit}}
	// Below says that something within the object is open, but not all of it.
	Below = Set{bits: [words]uint64{words - 1: belowBit}}
)

// Empty reports whether nothing is in s.
func (s Set) Empty() bool { return s.bits == [words]uint64{} }

// Has reports whether all of other are in s.
func (s Set) Has(other Set) bool {
	for i, w := range other.bits {
		if w&^s.bits[i] != 0 {
			return false
		}
	}
	return true
}

// Any reports whether one of other is in s.
func (s Set) Any(other Set) bool {
	for i, w := range other.bits {
		if w&s.bits[i] != 0 {
			return true
		}
	}
	return false
}

// Or is what is in s or in one of the others. All are of one table.
func (s Set) Or(others ...Set) Set {
	for _, o := range others {
		s.Add(o)
	}
	return s
}

// Add puts other into s.
func (s *Set) Add(other Set) {
	if other.table != nil && s.table != other.table {
		if s.table != nil {
			panic("privileges of two tables in one set")
		}
		s.table = other.table
	}
	for i, w := range other.bits {
		s.bits[i] |= w
	}
}

// And is what is in both.
func (s Set) And(other Set) Set {
	for i, w := range other.bits {
		s.bits[i] &= w
	}
	return s.settled()
}

// Minus is what is in s and not in other.
func (s Set) Minus(other Set) Set {
	for i, w := range other.bits {
		s.bits[i] &^= w
	}
	return s.settled()
}

// Granted is s without [Own] and [Below].
func (s Set) Granted() Set { return s.Minus(Own.Or(Below)) }

// settled keeps equal sets equal by ==.
func (s Set) settled() Set {
	named := s.bits
	named[words-1] &^= special
	if named == [words]uint64{} {
		s.table = nil
	}
	return s
}

// Names lists the privileges in the order of their table, [Own] and [Below] left out.
func (s Set) Names() []string {
	if s.table == nil {
		return []string{}
	}
	var out []string
	for word, w := range s.bits {
		if word == words-1 {
			w &^= special
		}
		for ; w != 0; w &= w - 1 {
			out = append(out, s.table.names[word*64+bits.TrailingZeros64(w)])
		}
	}
	return out
}

// String is the names as SQL lists them.
func (s Set) String() string { return strings.Join(s.Names(), ", ") }
