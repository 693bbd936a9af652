package clearing

import (
	"slices"

	"example.com/genarch/core/catalog"
)

// Wait is one session in the tree of who waits for whom. Depth 0 are those that
// others wait for and that wait for nobody.
type Wait struct {
	Session catalog.Session
	Depth   int
	// Blocks is how many wait for it, directly or behind others.
	Blocks int
	// Again: it stands further up in the tree too, for it waits for several.
	Again bool
}

// Concerning keeps, of a tree, what hangs together with a session that is meant:
// who it waits for, and who waits for it, wherever those are.
func Concerning(tree []Wait, meant func(catalog.Session) bool) []Wait {
	var out []Wait
	for begin := 0; begin < len(tree); {
		end := begin + 1
		for end < len(tree) && tree[end].Depth > 0 {
			end++
		}
		if one := tree[begin:end]; slices.ContainsFunc(one, func(w Wait) bool { return meant(w.Session) }) {
			out = append(out, one...)
		}
		begin = end
	}
	return out
}

// Waits lays out who blocks whom, each blocker before those that wait for it. A
// ring of sessions that wait for each other begins anywhere in it.
func Waits(list []catalog.Session) []Wait {
	if !slices.ContainsFunc(list, func(s catalog.Session) bool { return len(s.BlockedBy) > 0 }) {
		return nil
	}
	byNumber, waiting := make(map[int64]catalog.Session, len(list)), map[int64][]int64{}
	blocked := map[int64]bool{}
	for _, s := range list {
		byNumber[s.ID.Number] = s
	}
	for _, s := range list {
		for _, b := range s.BlockedBy {
			if _, known := byNumber[b]; known && b != s.ID.Number {
				waiting[b] = append(waiting[b], s.ID.Number)
				blocked[s.ID.Number] = true
			}
		}
	}
	var out []Wait
	shown := map[int64]bool{}
	var add func(n int64, depth int, path map[int64]bool) int
	add = func(n int64, depth int, path map[int64]bool) int {
		at := len(out)
		out = append(out, Wait{Session: byNumber[n], Depth: depth, Again: shown[n]})
		if shown[n] || path[n] {
			return 1
		}
		shown[n], path[n] = true, true
		below := 0
		for _, w := range waiting[n] {
			below += add(w, depth+1, path)
		}
		delete(path, n)
		out[at].Blocks = below
		return below + 1
	}
	for _, s := range list {
		if n := s.ID.Number; len(waiting[n]) > 0 && !blocked[n] {
			add(n, 0, map[int64]bool{})
		}
	}
	for _, s := range list { // what is left are rings
		if n := s.ID.Number; len(waiting[n]) > 0 && !shown[n] {
			add(n, 0, map[int64]bool{})
		}
	}
	return out
}
