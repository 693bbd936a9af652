package engine

import "encoding/json"

// Pack keeps a list of statements or names in one argument of a step; Unpack
// reads it back. What is in them does not matter.
func Pack(list []string) string {
	text, err := json.Marshal(list)
	if err != nil {
		return "[]"
	}
	return string(text)
}

// Unpack reads what Pack wrote.
func Unpack(text string) []string {
	var out []string
	_ = json.Unmarshal([]byte(text), &out)
	return out
}
