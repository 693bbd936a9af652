package script

// Ahead is a splitter that takes the next statement apart while one is run. Its user closes
// it, and waits for that before closing what the script is read from.
type Ahead struct {
	from   Splitter
	next   chan piece
	passed chan struct{} // the rows of the last statement were read
	quit   chan struct{}
	over   chan struct{}
	rows   bool // the last statement had rows
	offset int64
	err    error // what came last, for ever
}

// piece is a statement, or why there is none, and how far the script is then.
type piece struct {
	st     Statement
	err    error
	offset int64
}

// NewAhead begins to take a script apart. Nobody else uses from meanwhile.
func NewAhead(from Splitter) *Ahead {
	a := &Ahead{from: from, next: make(chan piece, 1), passed: make(chan struct{}), quit: make(chan struct{}),
		over: make(chan struct{})}
	go a.run()
	return a
}

func (a *Ahead) run() {
	defer close(a.over)
	for {
		st, err := a.from.Next()
		select {
		case a.next <- piece{st, err, a.from.Offset()}:
		case <-a.quit:
			return
		}
		if err != nil {
			return
		}
		if st.Rows != nil { // they lie in the script before the next statement
			select {
			case <-a.passed:
			case <-a.quit:
				return
			}
		}
	}
}

// Next gives the next statement, as [Splitter] says.
func (a *Ahead) Next() (Statement, error) {
	if a.err != nil {
		return Statement{}, a.err
	}
	if a.rows {
		a.rows = false
		a.passed <- struct{}{}
	}
	p := <-a.next
	a.rows, a.offset, a.err = p.st.Rows != nil && p.err == nil, p.offset, p.err
	return p.st, p.err
}

// Offset is how many bytes were passed.
func (a *Ahead) Offset() int64 { return a.offset }

// Close ends it.
func (a *Ahead) Close() {
	close(a.quit)
	<-a.over
}
