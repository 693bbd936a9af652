package record

import (
	"errors"
	"time"
)

// The errors of keeping files.
var (
	// ErrTooLarge: a file is larger than it may be.
	ErrTooLarge = errors.New("the file is too large")
	// ErrTooMany: an operator has as many files as anybody may have.
	ErrTooMany = errors.New("there are too many files")
	// ErrNoRoom: the disk of the service is full.
	ErrNoRoom = errors.New("the disk of the service has no room for the file")
	// ErrGone: the records know a file that is not in the folder.
	ErrGone = errors.New("the file is not in the service's folder any more")
)

// FileKind says what a file is.
type FileKind string

// The kinds of files.
const (
	// ScriptFile is a script by which a database is filled, ExportFile a database as its
	// engine's own program has written it.
	ScriptFile FileKind = "script"
	ExportFile FileKind = "export"
)

// File is one that is kept for a while beside the records, encrypted.
type File struct {
	ID   string
	Kind FileKind
	// Server is the server that it is for or from, Subject the address of what it is about.
	Server, Subject string
	Operator        string
	Size            int64 // bytes, as it was before it was encrypted
	// About is what is known of it, as JSON.
	About   string
	Created time.Time
	// Until is when it is removed, unless somebody still needs it.
	Until time.Time
}
