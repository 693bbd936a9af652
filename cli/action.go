package cli

import (
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/naming"
)

// flagNames are the flags whose names are not those of the options that they set, by the
// option's place in the intent. Another option has the flag of its name, and one of the
// engine's without a flag is given by --set.
var flagNames = map[string]string{
	"clearing": "end-sessions", "team": "for-team", "secret": "secret-file", "admin": "with-admin-option",
	"new_name": "as",
}

// nextText writes what can be done next in one line: the sentence, and the commands and
// options by which it is done.
func (a app) nextText(next string, actions []wire.Action) string {
	var ways []string
	for _, act := range actions {
		ways = append(ways, a.actionText(act))
	}
	switch {
	case len(ways) == 0:
		return next
	case next == "":
		return strings.Join(ways, "; ")
	}
	return strings.TrimSuffix(next, ".") + ": " + strings.Join(ways, "; ")
}

// actionText writes an action as it is typed: a command with its address, or with what
// stands for it; an option of the command that was given.
func (a app) actionText(act wire.Action) string {
	if act.Do == "" {
		if act.Value == "no" {
			return "leave out " + optionText(act.Option, "yes")
		}
		return optionText(act.Option, act.Value)
	}
	words := strings.Split(act.Do, ".")
	text := "genarch " + strings.Join(words, " ")
	if act.At != "" {
		text += " " + shellWord(act.At)
	} else if c := find(a.commands(), words); c != nil && c.ArgsUsage != "" {
		text += " " + c.ArgsUsage
	}
	if act.List != "" {
		text += " " + act.List
	}
	if act.Option != "" {
		text += " " + optionText(act.Option, act.Value)
	}
	return text
}

// optionText writes an option as it is typed; … stands for a value that a person chooses.
func optionText(place, value string) string {
	shown := shellWord(value)
	if value == "" {
		shown = "…"
	}
	own, engines := strings.CutPrefix(place, "options.")
	flag := flagNames[place]
	if flag == "" {
		flag = strings.ReplaceAll(place[strings.LastIndex(place, ".")+1:], "_", "-")
	}
	common := commonOptions[flag]
	if value == "false" { // said, as it holds when it is not
		shown = "no"
		if !engines || common != nil {
			return "--" + flag + "=false"
		}
	}
	if engines && common == nil {
		return "--set " + own + "=" + shown
	}
	if _, text := common.(*cli.StringFlag); value == "yes" && !text {
		return "--" + flag
	}
	return "--" + flag + " " + shown
}

// grantCommand is the command that asks for an intent of the kind privilege.grant.
func grantCommand(in wire.Intent) string {
	g := in.Grant
	if g == nil {
		return ""
	}
	to := holderText(g.To)
	if g.To.Role && g.To.Name != "PUBLIC" {
		to = "role:" + g.To.Name
	}
	text := "genarch privilege grant " + shellWord(naming.DatabaseAddress(in.Server, g.Database).String()) +
		" --to " + shellWord(to) +
		" --privilege " + shellWord(strings.Join(g.Privileges, ","))
	name := g.On.Name
	if g.On.Schema != "" {
		name = g.On.Schema + "." + name
	}
	switch g.On.Scope {
	case "schema":
		text += " --schema " + shellWord(g.On.Schema)
	case "table", "sequence", "routine":
		text += " --" + g.On.Scope + " " + shellWord(name)
	case "column":
		text += " --table " + shellWord(name) + " --column " + shellWord(g.On.Column)
	}
	return text
}

// find is the command of these words; nil: there is none.
func find(list []*cli.Command, words []string) *cli.Command {
	i := slices.IndexFunc(list, func(c *cli.Command) bool { return c.Name == words[0] })
	switch {
	case i < 0:
		return nil
	case len(words) == 1:
		return list[i]
	}
	return find(list[i].Commands, words[1:])
}

// shellWord makes a text one word of a shell's command line.
func shellWord(text string) string {
	for _, c := range text {
		plain := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
		if !plain && !strings.ContainsRune("_-./:@,=+", c) {
			return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
		}
	}
	return text
}
