// Command innerladder is the service, its command line, the stand-in model server and
// the demo in one binary.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"innerladder/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := cli.Run(ctx, os.Args[1:], cli.Streams{Out: os.Stdout, Err: os.Stderr})
	stop()
	os.Exit(code)
}
