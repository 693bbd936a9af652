package catalog

// Choice is one thing that can be chosen on one server: an encoding, a tablespace, a
// database to copy.
type Choice struct {
	Name    string
	Title   string // what it is, in words; empty: the name says it
	Default bool
	// For names what it goes with, where it does not go with everything: the encoding
	// of a collation, the provider of a locale.
	For string
	// Why says why it cannot be chosen just now; empty: it can.
	Why string
	// Properties say more of it: the encoding of a template, the folder of a tablespace.
	Properties Values
}

// Choices are what can be chosen on one server, by the keys of its engine's description.
type Choices map[string][]Choice

// Find looks a choice up; same compares two names, nil: letter by letter.
func (c Choices) Find(key, name string, same func(x, y string) bool) (Choice, bool) {
	for _, o := range c[key] {
		if o.Name == name || same != nil && same(o.Name, name) {
			return o, true
		}
	}
	return Choice{}, false
}

// Default is the choice that holds when nothing is asked.
func (c Choices) Default(key string) (Choice, bool) {
	for _, o := range c[key] {
		if o.Default {
			return o, true
		}
	}
	return Choice{}, false
}
