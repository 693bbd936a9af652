package sqlserver

import (
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine/planning"
)

// volume is a disk of the server on which files of databases lie, and how many bytes are free on it.
type volume struct {
	Mount string
	Free  int64
}

// holds reports whether a file lies on it.
func (v volume) holds(path string) bool {
	mount := strings.TrimRight(v.Mount, `\/`)
	return len(path) > len(mount) && strings.EqualFold(path[:len(mount)], mount) &&
		strings.ContainsAny(path[len(mount):len(mount)+1], `\/`)
}

// planRoom stops at files that would not fit on the disks where they are to lie, as far as the server tells how
// much is free there. Each of the files has a path and by how many bytes it grows.
func planRoom(p *planning.Draft, files []catalog.Values) {
	more := detailsOf(p.Snap.Details)
	wanted := make([]int64, len(more.Volumes))
	for _, f := range files {
		best := -1
		for i, v := range more.Volumes {
			if v.holds(f.Text("path")) && (best < 0 || len(v.Mount) > len(more.Volumes[best].Mount)) {
				best = i
			}
		}
		if size, asked := f.Int("size"); asked && best >= 0 {
			wanted[best] += size
		}
	}
	for i, v := range more.Volumes {
		if wanted[i] > v.Free {
			p.About("files", change.Stop, change.DiskFull, "Choose smaller files, or a folder on another disk.",
				"The files would take %s on %s of the server, where %s are free.", naming.SizeText(wanted[i]),
				shown(v.Mount), naming.SizeText(v.Free))
		}
	}
}
