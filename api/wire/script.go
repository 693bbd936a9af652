package wire

import "time"

// Script is one that was sent, by which a database can be filled.
type Script struct {
	ID         string    `json:"id" doc:"What database.fill asks for as its script."`
	Server     string    `json:"server"`
	File       string    `json:"file"`
	Created    time.Time `json:"created"`
	Size       int64     `json:"size" doc:"Bytes."`
	Lines      int       `json:"lines"`
	SHA256     string    `json:"sha256"`
	Statements int       `json:"statements"`
	Broken     string    `json:"broken,omitempty" doc:"Why it could not be taken apart to its end."`
}
