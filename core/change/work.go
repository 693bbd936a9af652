package change

// Work is how far a step is that takes long.
type Work struct {
	// What is worked at just now, as "table fares".
	What string
	// Done of Total, counted in Unit ("rows", "bytes"). Total is 0 where it is not known,
	// and an estimate where it can be exceeded.
	Done, Total int64
	Unit        string
}
