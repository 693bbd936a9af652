package wire

// Action is one thing that can be done next: a command at an address, an option of what is
// being asked for, or a command with an option.
type Action struct {
	Do     string `json:"do,omitempty" doc:"The command, its words joined by a dot, such as database.list. Absent: the option belongs to what is being asked for."`
	At     string `json:"at,omitempty" doc:"The address that the command is about; absent where it is what the answer itself is about."`
	List   string `json:"list,omitempty" doc:"Which list of choices is meant, for server.choices."`
	Option string `json:"option,omitempty" doc:"The option to set, by its place in the intent: if_not_exists, clearing.accept_loss; options.NAME is one of the engine's."`
	Value  string `json:"value,omitempty" doc:"What to set it to; absent: a person has to choose."`
}
