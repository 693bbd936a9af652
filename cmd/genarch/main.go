// Command genarch is Genarch: the service, its command-line client and its web
// console in one binary.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"example.com/genarch/cli"
)

// version is set by the build.
var version = "dev"

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	root := cli.Root(version, cli.StandardStreams(), serveCommand(), keyCommand(), demoCommand(), openAPICommand())
	code := cli.Run(ctx, root, os.Args)
	stop()
	os.Exit(code)
}
