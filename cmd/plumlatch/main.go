// Command plumlatch is the client. See package cli.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"plumlatch/internal/cli"
	"plumlatch/internal/cli/kit"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	status := cli.Run(ctx, os.Args[1:], kit.Env{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Getenv: os.Getenv})
	stop()
	os.Exit(status)
}
