// Command janustat finds, activates, addresses, proves and records the devices
// of a site. See the README.
package main

import (
	"context"
	"os"
	"os/signal"
	"runtime/debug"
	"strconv"
	"syscall"

	"janustat/internal/cli"
)

func main() { os.Exit(run()) }

// keyWork is the scrypt work factor of the keyrings that are written, where the linker sets it
// (-X main.keyWork=10), which it does for tests alone; "" is the usual one.
var keyWork string

// memory is what the program may take before it collects garbage more often, in bytes: a
// job of a thousand devices is done on a laptop that does other things beside it.
const memory = 250 << 20

// garbage is how much the heap grows, in percent of what is in use, until it is collected: a command of
// a moment ends before that.
const garbage = 200

func run() int {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(garbage)
	}
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memory)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	context.AfterFunc(ctx, stop) // a second ctrl-C is not asked for its opinion
	app := cli.App{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Getenv: os.Getenv}
	app.KeyWork, _ = strconv.Atoi(keyWork)
	return app.Run(ctx, os.Args[1:])
}
