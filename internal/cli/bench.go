package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"

	"github.com/spf13/cobra"

	"janustat/internal/bench"
)

func (a *App) benchCommand() *cobra.Command {
	site, socket, attach, logFile := bench.Demo, "", "", ""
	c := &cobra.Command{
		Use:   "bench",
		Short: "Run a simulated site",
		Long: `Runs a simulated site: a switch and a host for each device, every one with its own
MAC and TCP/IP stack. Clients plug in through a Unix socket (--wire bench:PATH), or
the site is attached to a network adapter, in a network namespace of your own.
A site is described in a YAML file (docs/bench.md); "quillmere" is built in.`,
		Example: "  janustat bench --socket /tmp/quillmere.sock\n  janustat survey --wire bench:/tmp/quillmere.sock",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if (socket == "") == (attach == "") {
				return usagef("give either --socket PATH or --attach ADAPTER")
			}
			return a.bench(c.Context(), site, socket, attach, logFile)
		},
	}
	f := c.Flags()
	f.StringVar(&site, "site", site, "a site `FILE`, or the name of a built-in one")
	f.StringVar(&socket, "socket", "", "listen on this Unix socket `PATH`")
	f.StringVar(&attach, "attach", "", "join this network `ADAPTER` to the site's switch")
	f.StringVar(&logFile, "log", "", "write what the hosts experience to this `FILE`, as JSON lines")
	return c
}

func (a *App) bench(ctx context.Context, name, socket, attach, logFile string) error {
	site, err := bench.Load(name)
	if err != nil {
		return usageError{err}
	}
	var out io.Writer
	if logFile != "" {
		f, err := os.Create(logFile)
		if err != nil {
			return fmt.Errorf("bench log: %w", err)
		}
		defer f.Close()
		out = f
	}
	b, err := bench.Start(ctx, site, bench.NewLog(out))
	if err != nil {
		return err
	}
	defer b.Stop()
	devices, others := b.Hosts()
	if attach != "" {
		a.say("%s: %d devices and %d others on %s; ctrl-C ends", site.Name, devices, others, attach)
		return b.Attach(ctx, attach)
	}
	l, err := listenSocket(socket)
	if err != nil {
		return err
	}
	a.say("%s: %d devices and %d others on --wire bench:%s; ctrl-C ends", site.Name, devices, others, socket)
	return b.Serve(ctx, l)
}

// listenSocket listens on a path, clearing away a socket that a killed bench left.
func listenSocket(path string) (net.Listener, error) {
	if c, err := net.Dial("unix", path); err == nil {
		c.Close()
		return nil, fmt.Errorf("a bench runs on %s already", path)
	}
	if info, err := os.Lstat(path); err == nil && info.Mode()&os.ModeSocket != 0 {
		if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, fmt.Errorf("bench socket: %w", err)
		}
	}
	l, err := net.Listen("unix", path)
	if err != nil {
		return nil, fmt.Errorf("bench socket: %w", err)
	}
	return l, nil
}
