package wire

import "time"

// Export is a database as its engine's own program has written it, kept for a while.
type Export struct {
	ID       string    `json:"id"`
	Server   string    `json:"server"`
	Database string    `json:"database"`
	Operator string    `json:"operator" doc:"Who let the change run that made it."`
	Change   uint64    `json:"change"`
	Program  string    `json:"program" doc:"What wrote it, with its version."`
	File     string    `json:"file" doc:"A name for it."`
	Restore  string    `json:"restore" doc:"How it is put back."`
	Size     int64     `json:"size" doc:"Bytes."`
	SHA256   string    `json:"sha256"`
	Checked  []string  `json:"checked" nullable:"false" doc:"What was found when it was read once more."`
	Created  time.Time `json:"created"`
	Until    time.Time `json:"until" doc:"When it is removed."`
}

// ExportList is all exports, the newest first.
type ExportList struct {
	Exports []Export `json:"exports" nullable:"false"`
}
