// Command janustat finds, activates, addresses, proves and records the devices
// of a site. See the README.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"janustat/internal/cli"
)

func main() { os.Exit(run()) }

func run() int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	context.AfterFunc(ctx, stop) // a second ctrl-C is not asked for its opinion
	app := cli.App{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Getenv: os.Getenv}
	return app.Run(ctx, os.Args[1:])
}
