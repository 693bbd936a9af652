package engine

import "encoding/json"

// EncodeList keeps a list of statements or names in one argument of a step; DecodeList
// reads it back. What is in them does not matter.
func EncodeList(list []string) string {
	text, err := json.Marshal(list)
	if err != nil {
		return "[]"
	}
	return string(text)
}

// DecodeList reads what EncodeList wrote.
func DecodeList(text string) []string {
	var out []string
	_ = json.Unmarshal([]byte(text), &out)
	return out
}
