package privilege

// Words is how many machine words a set of this table takes when it is packed: one for
// a table of up to 62 names.
func (t *Table) Words() int { return (len(t.names) + 2 + 63) / 64 }

// Pack adds a set of the table to its packed form, [Table.Words] long.
func (t *Table) Pack(into []uint64, s Set) {
	for i := range into {
		into[i] |= s.bits[i]
	}
	into[len(into)-1] |= s.bits[words-1] & special
}

// Unpack is the set that a packed form holds.
func (t *Table) Unpack(from []uint64) Set {
	var s Set
	copy(s.bits[:], from)
	last := len(from) - 1
	s.bits[last] &^= special
	s.bits[words-1] |= from[last] & special
	s.table = t
	return s.settled()
}
