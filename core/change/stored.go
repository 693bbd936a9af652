package change

import (
	"encoding/json"
	"maps"

	"example.com/genarch/core/catalog"
)

// UnmarshalJSON reads an intent that was stored, too, when each option was a field of
// its own: such a field is an option.
func (s *DatabaseSpec) UnmarshalJSON(text []byte) error {
	type plain DatabaseSpec
	if err := json.Unmarshal(text, (*plain)(s)); err != nil {
		return err
	}
	var all map[string]json.RawMessage
	if err := json.Unmarshal(text, &all); err != nil {
		return err
	}
	for _, name := range words("name if_absent if_present new_name team options") {
		delete(all, name)
	}
	if len(all) == 0 {
		return nil
	}
	old, err := json.Marshal(all)
	if err != nil {
		return err
	}
	var options catalog.Values
	if err := json.Unmarshal(old, &options); err != nil {
		return err
	}
	maps.Copy(options, s.Options)
	s.Options = options
	return nil
}
