// Package remedy says what a person can do next, as data: a command to run, an option
// to set. The command line writes it as a command, the console as a button or a link
// that does it; no sentence has to name either.
package remedy

import "strings"

// Action is one thing that can be done next: a command at an address, an option of what
// is being asked for, or a command with an option.
type Action struct {
	// Do is the command, its words joined by a dot: "database.list". Empty: the option
	// belongs to what is being asked for.
	Do string `json:"do,omitempty"`
	// At is the address that the command is about; empty where the one who says it does
	// not know it, and the one who shows it does.
	At string `json:"at,omitempty"`
	// List is which list of choices is meant, for server.choices.
	List string `json:"list,omitempty"`
	// Option is the option to set, by its place in the intent: "if_not_exists",
	// "clearing.accept_loss"; "options.private" is one of the engine's own.
	Option string `json:"option,omitempty"`
	// Value is what to set it to, as text; empty: a person has to choose.
	Value string `json:"value,omitempty"`
}

// Yes is the value that switches an option on.
const Yes = "yes"

// Command is a command at an address.
func Command(do, at string) Action { return Action{Do: do, At: at} }

// Choices is the list of what can be chosen on a server.
func Choices(server, list string) Action { return Action{Do: "server.choices", At: server, List: list} }

// Option is an option of what is being asked for.
func Option(name, value string) Action { return Action{Option: name, Value: value} }

// Off turns an option off that holds when it is not said; with "no" it is left out.
const Off = "false"

// With is the command with an option.
func (a Action) With(name, value string) Action {
	a.Option, a.Value = name, value
	return a
}

// String is the action in one line, for logs and tests.
func (a Action) String() string {
	var words []string
	for _, w := range []string{a.Do, a.At, a.List, a.Option} {
		if w != "" {
			words = append(words, w)
		}
	}
	text := strings.Join(words, " ")
	if a.Value != "" {
		text += "=" + a.Value
	}
	return text
}
