package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
	"example.com/genarch/client"
)

func (a app) exportCommand() *cli.Command {
	id := []cli.Argument{&cli.StringArg{Name: "export"}}
	return &cli.Command{Name: "export",
		Usage: "databases that were exported before they were dropped: see them, fetch them, remove them",
		Commands: []*cli.Command{
			{Name: "list", Usage: "the exports that are kept, the newest first", ArgsUsage: "[SERVER]",
				Arguments: nameArg(), Flags: listFlags(), Action: a.listExports},
			{Name: "fetch", Usage: "write an export into a file, or with - to standard output",
				ArgsUsage: "EXPORT [FILE]", Arguments: append(id, &cli.StringArg{Name: "file"}),
				Description: "It holds everything that was in the database. That it was fetched is on record.\n" +
					"What was written is held against its hash.",
				Action: a.fetchExport},
			{Name: "remove", Usage: "remove an export before its time is over", ArgsUsage: "EXPORT", Arguments: id,
				Description: "It asks for the name of the database, or takes it from --confirm.",
				Flags:       []cli.Flag{confirmFlag()}, Action: a.removeExport},
		}}
}

func (a app) listExports(ctx context.Context, c *cli.Command) error {
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	list, err := api.Exports(ctx, c.StringArg("name"))
	if err != nil {
		return err
	}
	if len(list.Exports) == 0 && c.String("output") == "table" {
		a.say("No export is kept. One is made with: genarch database drop SERVER/DATABASE --for-good --export-first")
	}
	return print(a, c, list, list.Exports, []column[wire.Export]{
		{title: "export", text: func(x wire.Export) string { return x.ID }},
		{title: "database", text: func(x wire.Export) string { return x.Server + "/" + x.Database }},
		{title: "size", text: func(x wire.Export) string { return sizeText(x.Size) },
			exact: func(x wire.Export) string { return strconv.FormatInt(x.Size, 10) }, right: true},
		{title: "written by", text: func(x wire.Export) string { return x.Program }},
		{title: "made", text: func(x wire.Export) string { return timeText(x.Created) }},
		{title: "kept until", text: func(x wire.Export) string { return x.Until.Format(time.DateOnly) }},
		{title: "change", text: func(x wire.Export) string { return strconv.FormatUint(x.Change, 10) }, right: true},
		{title: "restore", asked: true, text: func(x wire.Export) string { return x.Restore }},
		{title: "sha256", asked: true, text: func(x wire.Export) string { return x.SHA256 }},
	})
}

// oneExport finds an export by its number, or by the beginning of it.
func (a app) oneExport(ctx context.Context, c *cli.Command) (*client.Client, wire.Export, error) {
	text := c.StringArg("export")
	if text == "" {
		return nil, wire.Export{}, usage("Name the export: %s EXPORT", c.FullName())
	}
	api, err := a.connect(c)
	if err != nil {
		return nil, wire.Export{}, err
	}
	list, err := api.Exports(ctx, "")
	if err != nil {
		return nil, wire.Export{}, err
	}
	var found []wire.Export
	for _, x := range list.Exports {
		if len(text) >= 4 && len(text) <= len(x.ID) && x.ID[:len(text)] == text {
			found = append(found, x)
		}
	}
	if len(found) != 1 {
		return nil, wire.Export{}, &exitError{ExitNotFound,
			fmt.Errorf("There is no export %s, or several begin so; next: genarch export list", visible(text))}
	}
	return api, found[0], nil
}

func (a app) fetchExport(ctx context.Context, c *cli.Command) error {
	api, x, err := a.oneExport(ctx, c)
	if err != nil {
		return err
	}
	name := c.StringArg("file")
	if name == "" {
		name = x.File
	}
	if name == "-" {
		return api.FetchExport(ctx, x, a.Out)
	}
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return usage("The file cannot be made: %v", err)
	}
	if err := errors.Join(api.FetchExport(ctx, x, f), f.Close()); err != nil {
		_ = os.Remove(name) // what is not whole must not be taken for an export
		return err
	}
	a.say("%s  %s, %s, as its hash says; put it back with: %s", fine.Render("fetched"), visible(name),
		sizeText(x.Size), x.Restore)
	return nil
}

func (a app) removeExport(ctx context.Context, c *cli.Command) error {
	api, x, err := a.oneExport(ctx, c)
	if err != nil {
		return err
	}
	err = a.confirmed(c, x.Database, "The export of "+x.Server+"/"+visible(x.Database)+" of "+timeText(x.Created)+
		" would be gone for good.")
	if err != nil {
		return err
	}
	if err := api.RemoveExport(ctx, x.ID); err != nil {
		return err
	}
	a.say("%s  the export of %s/%s", fine.Render("removed"), x.Server, visible(x.Database))
	return nil
}
