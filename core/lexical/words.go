package lexical

import (
	"slices"
	"strings"
)

// Word is a piece of a statement that means something: no blank, no comment.
type Word struct {
	Token
	// At is where it begins in the statement's text.
	At int
}

// Words are the first pieces of a statement.
type Words []Word

// MaxWords is how many are kept: what a statement is stands at its beginning.
const MaxWords = 160

// Is reports whether these words, which are written in capitals, stand from a place on.
func (w Words) Is(at int, words ...string) bool {
	if at < 0 || at+len(words) > len(w) {
		return false
	}
	for i, word := range words {
		if t := w[at+i]; t.Kind != Other || !strings.EqualFold(t.Text, word) {
			return false
		}
	}
	return true
}

// Any is which of these words stands at a place; empty: none.
func (w Words) Any(at int, words ...string) string {
	for _, word := range words {
		if w.Is(at, word) {
			return word
		}
	}
	return ""
}

// Find is where these words stand first, from a place on; -1: nowhere.
func (w Words) Find(from int, words ...string) int {
	for i := from; i+len(words) <= len(w); i++ {
		if w.Is(i, words...) {
			return i
		}
	}
	return -1
}

// Pass goes on while one of these words stands there.
func (w Words) Pass(at int, words ...string) int {
	for at < len(w) && w.Any(at, words...) != "" {
		at++
	}
	return at
}

// PassIf goes past all of these words, if they stand there.
func (w Words) PassIf(at int, words ...string) int {
	if w.Is(at, words...) {
		return at + len(words)
	}
	return at
}

// Upper is a word in capitals; empty: there is none, or no word.
func (w Words) Upper(at int) string {
	if at < 0 || at >= len(w) || w[at].Kind != Other {
		return ""
	}
	return strings.ToUpper(w[at].Text)
}

// Called reads a name at a place, with what stands before it and a dot; read writes one part
// as the server keeps it, and says no where none stands.
func (w Words) Called(at int, read func(Token) (string, bool)) (schema, name string, next int, ok bool) {
	if at < 0 || at >= len(w) {
		return "", "", at, false
	}
	name, ok = read(w[at].Token)
	if !ok {
		return "", "", at, false
	}
	at++
	for w.Is(at, ".") && at+1 < len(w) {
		part, is := read(w[at+1].Token)
		if !is {
			break
		}
		schema, name = name, part
		at += 2
	}
	return schema, name, at, true
}

// Kind is what a statement is, of its first words: the verb alone, or with what it is about
// for the verbs that are about many things.
func (w Words) Kind(modifiers []string) string {
	verb := w.Upper(0)
	if !slices.Contains([]string{"CREATE", "ALTER", "DROP", "COMMENT", "SET", "START", "LOCK"}, verb) {
		return verb
	}
	if verb == "SET" || verb == "COMMENT" {
		return verb
	}
	at := w.Pass(1, modifiers...)
	object := w.Upper(at)
	if two := object + " " + w.Upper(at+1); slices.Contains(twoWords, two) {
		object = two
	}
	if object == "" || strings.Trim(object, "ABCDEFGHIJKLMNOPQRSTUVWXYZ_ ") != "" {
		return verb
	}
	return verb + " " + object
}

// twoWords are things that are called by two words.
var twoWords = []string{"FOREIGN TABLE", "MATERIALIZED VIEW", "EVENT TRIGGER", "ACCESS METHOD", "USER MAPPING",
	"FOREIGN DATA", "TEXT SEARCH", "DEFAULT PRIVILEGES", "OPERATOR CLASS", "OPERATOR FAMILY", "PACKAGE BODY",
	"LARGE OBJECT"}
