package change

import (
	"encoding/json"
	"maps"
	"reflect"
	"strings"

	"example.com/genarch/core/catalog"
)

// Intents were stored, too, when each option was a field of its own: such a field is
// an option.

// UnmarshalJSON reads what is asked for of a database.
func (s *DatabaseSpec) UnmarshalJSON(text []byte) error {
	type plain DatabaseSpec
	return stored(text, (*plain)(s), &s.Options)
}

// UnmarshalJSON reads what is asked for of an account.
func (a *AccountSpec) UnmarshalJSON(text []byte) error {
	type plain AccountSpec
	return stored(text, (*plain)(a), &a.Options)
}

// UnmarshalJSON reads what is asked for of a membership.
func (m *MemberSpec) UnmarshalJSON(text []byte) error {
	type plain MemberSpec
	return stored(text, (*plain)(m), &m.Options)
}

// UnmarshalJSON reads what is asked for of a grant.
func (g *GrantSpec) UnmarshalJSON(text []byte) error {
	type plain GrantSpec
	return stored(text, (*plain)(g), &g.Options)
}

// UnmarshalJSON reads how sessions are dealt with.
func (c *ClearingSpec) UnmarshalJSON(text []byte) error {
	type plain ClearingSpec
	return stored(text, (*plain)(c), &c.Options)
}

// stored reads a part of an intent into plain; what is none of its fields is added to
// the options.
func stored(text []byte, plain any, options *catalog.Values) error {
	if err := json.Unmarshal(text, plain); err != nil {
		return err
	}
	var all map[string]json.RawMessage
	if err := json.Unmarshal(text, &all); err != nil {
		return err
	}
	own := reflect.TypeOf(plain).Elem()
	for i := range own.NumField() {
		name, _, _ := strings.Cut(own.Field(i).Tag.Get("json"), ",")
		delete(all, name)
	}
	if len(all) == 0 {
		return nil
	}
	old, err := json.Marshal(all)
	if err != nil {
		return err
	}
	var more catalog.Values
	if err := json.Unmarshal(old, &more); err != nil {
		return err
	}
	maps.Copy(more, *options)
	*options = more
	return nil
}
