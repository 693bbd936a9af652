package naming

import "strings"

// Nearest is the one of names that somebody most likely meant who typed name: by
// the fewest characters that differ, at most one in three; none if two names are
// equally near, since a guess would be as likely wrong.
func Nearest(name string, names []string) (nearest string, found bool) {
	typed := []rune(strings.ToLower(Skeleton(name)))
	best := len(typed)/3 + 1
	if len(typed) < 3 {
		best = 1
	}
	for _, n := range names {
		if n == name {
			continue
		}
		switch d := distance(typed, []rune(strings.ToLower(Skeleton(n))), best); {
		case d < best || d == best && nearest == "":
			best, nearest, found = d, n, true
		case d == best && nearest != n:
			found = false
		}
	}
	if !found {
		return "", false
	}
	return nearest, true
}

// distance counts the characters to be put in, taken out, replaced or swapped with
// their neighbour that make b of a (the optimal string alignment distance). Beyond
// most it only says that there are more.
func distance(a, b []rune, most int) int {
	if len(a)-len(b) > most || len(b)-len(a) > most {
		return most + 1
	}
	before, last, line := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		line[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			line[j] = min(last[j]+1, line[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				line[j] = min(line[j], before[j-2]+1)
			}
		}
		before, last, line = last, line, before
	}
	return last[len(b)]
}
