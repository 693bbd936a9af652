package main

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api"
	"example.com/genarch/events"
)

// openAPICommand writes the description of the API, made from the code.
func openAPICommand() *cli.Command {
	return &cli.Command{Name: "openapi", Usage: "write the OpenAPI 3.1 document of the HTTP API",
		Action: func(_ context.Context, c *cli.Command) error {
			text, err := api.New(api.Config{Events: &events.Hub{}, Version: "1"}).OpenAPI()
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(c.Root().Writer, string(text))
			return err
		}}
}
