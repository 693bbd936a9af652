package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"example.com/genarch/client"
	"example.com/genarch/core/naming"
)

const (
	// completeTime bounds how long a shell waits for what could be typed next.
	completeTime = 2 * time.Second
	// maxCompletions bounds what is offered.
	maxCompletions = 200
)

// completeAddresses offers, where a command takes an address, those that the service knows
// and that begin with what is typed. What goes wrong offers nothing: a shell has no place
// to say why.
func (a app) completeAddresses(c *cli.Command) {
	kinds := addressKinds(c.ArgsUsage)
	if len(kinds) == 0 {
		return
	}
	c.ShellComplete = func(ctx context.Context, c *cli.Command) {
		typed := ""
		if args := c.Args().Slice(); len(args) > 0 {
			typed = args[len(args)-1]
		}
		if strings.HasPrefix(typed, "-") {
			cli.DefaultCompleteWithFlags(ctx, c)
			return
		}
		api, err := a.connect(c)
		if err != nil {
			return
		}
		ctx, cancel := context.WithTimeout(ctx, completeTime)
		defer cancel()
		if kinds[string(naming.KindHolding)] {
			server, _, _ := strings.Cut(typed, "/")
			a.completeHoldings(ctx, api, server, typed)
			return
		}
		found, err := api.Search(ctx, typed, maxCompletions)
		if err != nil {
			return
		}
		for _, f := range found.Found {
			if kinds[f.Kind] && strings.HasPrefix(f.Address, typed) {
				fmt.Fprintln(a.Out, f.Address)
			}
		}
	}
}

// completeHoldings writes what was set aside, as it is named.
func (a app) completeHoldings(ctx context.Context, api *client.Client, server, typed string) {
	if !strings.Contains(typed, "/") {
		server = "" // it is being typed
	}
	list, err := api.Holdings(ctx, server)
	if err != nil {
		return
	}
	for _, h := range list.Holdings[:min(len(list.Holdings), maxCompletions)] {
		if address := holdingText(h); strings.HasPrefix(address, typed) {
			fmt.Fprintln(a.Out, address)
		}
	}
}

// addressKinds are the kinds of what a command takes, by how its argument is written.
func addressKinds(usage string) map[string]bool {
	out := map[string]bool{}
	for word := range strings.FieldsSeq(strings.ReplaceAll(usage, "[/DATABASE]", " SERVER/DATABASE")) {
		switch {
		case word == "SERVER":
			out["server"] = true
		case word == holdingArgs:
			out[string(naming.KindHolding)] = true
		case strings.HasPrefix(word, "SERVER/DATABASE"):
			out["database"] = true
		case strings.HasPrefix(word, "SERVER/account:"):
			out["account"], out["role"] = true, true
		case strings.HasPrefix(word, "SERVER/role:"):
			out["role"] = true
		}
	}
	return out
}
