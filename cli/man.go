package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"
)

// manCommand writes the manual: a page for each command, made from the same tree as its help.
func (a app) manCommand() *cli.Command {
	return &cli.Command{Name: "man", Usage: "write the pages of the manual, one for each command",
		Flags: []cli.Flag{&cli.StringFlag{Name: "into", Usage: "the folder, such as /usr/local/share/man/man1",
			Required: true}},
		Action: func(_ context.Context, c *cli.Command) error {
			n, err := writeManual(c.Root(), []string{"genarch"}, c.String("into"))
			if err == nil {
				a.say("%s  %d pages are written into %s; man genarch begins with the first", fine.Render("done"), n,
					c.String("into"))
			}
			return err
		}}
}

// writeManual writes the page of a command and those of all below it.
func writeManual(c *cli.Command, words []string, dir string) (pages int, err error) {
	var text strings.Builder
	manPage(&text, c, words)
	if err := os.WriteFile(filepath.Join(dir, strings.Join(words, "-")+".1"), []byte(text.String()), 0o644); err != nil {
		return 0, fmt.Errorf("a page of the manual: %w", err)
	}
	pages = 1
	for _, sub := range c.VisibleCommands() {
		if sub.Name == "help" {
			continue
		}
		n, err := writeManual(sub, append(words[:len(words):len(words)], sub.Name), dir)
		pages += n
		if err != nil {
			return pages, err
		}
	}
	return pages, nil
}

// manPage writes one page, in the macros of man(7).
func manPage(w io.Writer, c *cli.Command, words []string) {
	name := strings.Join(words, "-")
	fmt.Fprintf(w, ".TH %s 1 \"\" %q\n.SH NAME\n%s \\- %s\n", strings.ToUpper(name), "genarch "+c.Root().Version,
		manText(name), manText(c.Usage))
	fmt.Fprintf(w, ".SH SYNOPSIS\n.B %s\n", manText(strings.Join(words, " ")))
	if len(c.VisibleCommands()) > 0 {
		fmt.Fprint(w, ".I command\n")
	}
	if c.ArgsUsage != "" {
		fmt.Fprintf(w, ".I %s\n", manText(c.ArgsUsage))
	}
	if len(c.VisibleFlags()) > 0 {
		fmt.Fprint(w, "[options]\n")
	}
	text, shown, _ := strings.Cut(c.Description, "For example:\n")
	if text = strings.TrimSpace(text); text != "" {
		fmt.Fprintf(w, ".SH DESCRIPTION\n%s\n", manText(text))
	}
	for i, f := range c.VisibleFlags() {
		if i == 0 {
			fmt.Fprint(w, ".SH OPTIONS\n")
		}
		manFlag(w, f)
	}
	for i, sub := range c.VisibleCommands() {
		if i == 0 {
			fmt.Fprint(w, ".SH COMMANDS\n")
		}
		fmt.Fprintf(w, ".TP\n\\fB%s\\-%s\\fR(1)\n%s\n", manText(name), manText(sub.Name), manText(sub.Usage))
	}
	if shown != "" {
		fmt.Fprint(w, ".SH EXAMPLES\n.nf\n")
		for line := range strings.Lines(shown) {
			fmt.Fprintln(w, manText(strings.TrimSpace(line)))
		}
		fmt.Fprint(w, ".fi\n")
	}
}

func manFlag(w io.Writer, f cli.Flag) {
	var names []string
	for _, n := range f.Names() {
		names = append(names, `\fB`+manText(strings.Repeat("-", min(len(n), 2))+n)+`\fR`)
	}
	usage := ""
	if d, ok := f.(cli.DocGenerationFlag); ok {
		if d.TakesValue() {
			names[len(names)-1] += ` \fI` + manText(d.TypeName()) + `\fR`
		}
		usage = d.GetUsage()
		if text := d.GetDefaultText(); text != "" && d.TakesValue() {
			usage += " (default: " + text + ")"
		}
		if env := d.GetEnvVars(); len(env) > 0 {
			usage += " (environment: " + strings.Join(env, ", ") + ")"
		}
	}
	fmt.Fprintf(w, ".TP\n%s\n%s\n", strings.Join(names, ", "), manText(strings.ReplaceAll(usage, "`", "")))
}

// manText writes a text so that man takes nothing in it for a command of its own.
func manText(text string) string {
	var out []string
	for line := range strings.SplitSeq(strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(text), "\n") {
		if strings.HasPrefix(line, ".") || strings.HasPrefix(line, "'") {
			line = `\&` + line
		}
		out = append(out, line)
	}
	return strings.Join(out, "\n")
}
