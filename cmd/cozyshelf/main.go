// Command cozyshelf is the tool and the server of a household's media shelf.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"cozyshelf/internal/cli"
)

// version is set when the program is built for others; see the Makefile.
var version = "0.1.0"

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := cli.Run(ctx, version, os.Args[1:])
	stop()
	os.Exit(code)
}
