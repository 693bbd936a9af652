package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"example.com/genarch/core/journal"
	"example.com/genarch/core/policy"
	"example.com/genarch/store"
)

// keyFileName is what the key file is called in the data folder.
const keyFileName = "key.json"

// keyCommand works on the key file, on the machine that has it.
func keyCommand() *cli.Command {
	text := func(name, value, usage string) *cli.StringFlag {
		return &cli.StringFlag{Name: name, Value: value, Usage: usage, Sources: setting(name)}
	}
	return &cli.Command{Name: "key", Usage: "the key that seals the servers' secrets and the journal",
		Commands: []*cli.Command{
			{Name: "rotate", Usage: "make a new key, and seal every secret anew with it",
				Description: "It works on the records and the key file themselves, so it is run where the service runs, with the service's settings. " +
					"With a private MariaDB the service has to be stopped first; with a store of its own it may go on, and reads the key file again by itself. Save the file anew afterwards.",
				Flags: []cli.Flag{
					text("data", dataFolder("genarch"), "folder with the key file and the private MariaDB"),
					text("key-file", "", "the key file (default: key.json in the data folder)"),
					&cli.StringFlag{Name: "store-dsn-file",
						Usage:   "file with the DSN of the records (or GENARCH_STORE_DSN)",
						Sources: setting("store-dsn-file"), DefaultText: "the private MariaDB"},
				},
				Action: func(ctx context.Context, c *cli.Command) error {
					if err := settings().err; err != nil {
						return err
					}
					s := service{data: c.String("data"), keyFile: c.String("key-file"),
						log: slog.New(slog.DiscardHandler)}
					var err error
					if s.dsn, err = storeDSN(c.String("store-dsn-file")); err != nil {
						return err
					}
					if s.keyFile == "" {
						s.keyFile = filepath.Join(s.data, keyFileName)
					}
					// Nothing is made here: a folder without a key is another one than the service's.
					if _, err := os.Stat(s.keyFile); err != nil {
						return fmt.Errorf("there is no key file %s; name the folder of the service with --data, or the file with --key-file: %w", s.keyFile, err)
					}
					records, stop, err := s.openStore(ctx)
					if err != nil {
						return err
					}
					defer stop()
					return rotateKey(ctx, c, records)
				}},
		}}
}

func rotateKey(ctx context.Context, c *cli.Command, records *store.Store) error {
	n, err := records.RotateKey(ctx, journal.Entry{Operator: policy.Service, Action: "key.rotate", Subject: "key file"})
	if err != nil {
		return fmt.Errorf("the key was not wholly rotated; the key file opens everything all the same, so do it again: %w", err)
	}
	fmt.Fprintf(c.Root().ErrWriter,
		"done  a new key seals from now on; secrets that were sealed anew: %d. Save the key file again, away from the records.\n", n)
	return nil
}
