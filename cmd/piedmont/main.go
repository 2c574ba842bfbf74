// Command piedmont takes a project from a tagged commit to a published,
// verified release.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"piedmont/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	go func() {
		<-ctx.Done()
		stop() // a second signal ends the process at once
	}()
	os.Exit(cli.Run(ctx, cli.Call{Args: os.Args, In: os.Stdin, Out: os.Stdout, Err: os.Stderr}))
}
