package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"os"
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"

	"janustat/internal/bench"
	"janustat/internal/disk"
)

func (a *App) benchCommand() *cobra.Command {
	site, socket, attach, logFile, order := bench.Demo, "", "", "", ""
	var draw uint64
	size := 10
	c := &cobra.Command{
		Use:   "bench",
		Short: "Run a simulated site",
		Long: `Runs a simulated site: a switch and a host for each device, every one with its own
MAC and TCP/IP stack. Clients plug in through a Unix socket (--wire bench:PATH), or
the site is attached to a network adapter, in a network namespace of your own.
A site is described in a YAML file (docs/bench.md); "quillmere" is built in. --draw makes
one of devices whose traits are drawn by a seed: the same seed makes the same site.

While it runs, --do lets you pull a cable or unplug a device, from another terminal.`,
		Example: "  janustat bench --socket /tmp/quillmere.sock\n  janustat survey --wire bench:/tmp/quillmere.sock\n  janustat bench --socket /tmp/quillmere.sock --do \"unplug quay-cube\"\n  janustat bench --socket /tmp/quillmere.sock --do \"cable out\"",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if order != "" {
				if socket == "" {
					return usagef("--do needs the --socket of a running bench")
				}
				said, err := bench.Order(c.Context(), socket+ordersOf, order)
				if err != nil {
					return usageError{err}
				}
				return a.report(said)
			}
			if (socket == "") == (attach == "") {
				return usagef("give either --socket PATH or --attach ADAPTER")
			}
			s, err := a.siteToRun(site, draw, size, c.Flags().Changed("draw"), c.Flags().Changed("site"))
			if err != nil {
				return err
			}
			return a.bench(c.Context(), s, socket, attach, logFile)
		},
	}
	c.AddCommand(a.benchImageCommand())
	f := c.Flags()
	f.StringVar(&site, "site", site, "a site `FILE`, or the name of a built-in one")
	f.Uint64Var(&draw, "draw", 0, "a site of devices whose traits are drawn by this `SEED`")
	f.IntVar(&size, "devices", size, "how `MANY` devices --draw makes, 1 to 200")
	f.StringVar(&socket, "socket", "", "listen on this Unix socket `PATH`")
	f.StringVar(&attach, "attach", "", "join this network `ADAPTER` to the site's switch")
	f.StringVar(&order, "do", "", "have the running bench do this `ORDER`: unplug, plug, restart or reset DEVICE; cable out or in; devices")
	f.StringVar(&logFile, "log", "", "write what the hosts experience to this `FILE`, as JSON lines")
	return c
}

func (a *App) benchImageCommand() *cobra.Command {
	site, size := bench.Demo, 4_000_000
	c := &cobra.Command{
		Use:   "image MODEL VERSION FILE",
		Short: "Write firmware for simulated devices, to try `janustat firmware` with",
		Long: `Writes an image that simulated devices of a model accept. MODEL is its name in the site's file,
or a built-in one (docs/bench.md).`,
		Example: "  janustat bench image verrine-dome 4.3.0 dome-4.3.0.bin\n  janustat firmware add dome-4.3.0.bin --like C01 --version 4.3.0",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 3 {
				return usagef("bench image takes a model, a version and a file")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := bench.Load(site)
			if err != nil {
				return usageError{err}
			}
			m, ok := s.Models[args[0]]
			if !ok {
				return usagef("the site has no model %q", args[0])
			}
			if size < 0 || size > math.MaxInt32 {
				return usagef("--size %d: use 0 to %d", size, math.MaxInt32)
			}
			if err := disk.WriteFile(args[2], bench.Image(m.Make, m.Name, args[1], size), 0o644); err != nil {
				return err
			}
			return a.report("written: " + args[2])
		},
	}
	c.Flags().StringVar(&site, "site", site, "a site `FILE`, or the name of a built-in one")
	c.Flags().IntVar(&size, "size", size, "its size in `BYTES`")
	return c
}

// siteToRun gives a site by its file or name, or one that is drawn, whose devices it tells.
func (a *App) siteToRun(name string, seed uint64, size int, drawn, named bool) (*bench.Site, error) {
	switch {
	case drawn && named:
		return nil, usagef("--draw makes a site of its own: leave out --site")
	case !drawn:
		s, err := bench.Load(name)
		if err != nil {
			return nil, usageError{err}
		}
		return s, nil
	case size < 1 || size > maxDrawn:
		return nil, usagef("--devices %d: use 1 to %d", size, maxDrawn)
	}
	s, traits, err := bench.Draw(seed, size)
	if err != nil {
		return nil, err
	}
	for _, u := range s.Devices {
		a.say("%s %s: %s", u.ID, u.MAC, strings.Join(traits[u.ID], ", "))
	}
	return s, nil
}

// maxDrawn is how many devices a drawn site has at most.
const maxDrawn = 200

func (a *App) bench(ctx context.Context, site *bench.Site, socket, attach, logFile string) error {
	var out io.Writer
	if logFile != "" {
		f, err := os.Create(logFile)
		if err != nil {
			return fmt.Errorf("bench log: %w", err)
		}
		defer f.Close()
		out = f
	}
	a.roomForHosts()
	b, err := bench.Start(ctx, site, bench.NewLog(out))
	if err != nil {
		return err
	}
	defer b.Stop()
	devices, others := b.Hosts()
	if attach != "" {
		a.say("%s: %d devices and %d others on %s; Ctrl-C ends", site.Name, devices, others, attach)
		return b.Attach(ctx, attach)
	}
	l, err := listenSocket(socket)
	if err != nil {
		return err
	}
	hands, err := listenSocket(socket + ordersOf)
	if err != nil {
		return err
	}
	go func() { _ = b.TakeOrders(ctx, hands) }() // ends with ctx
	a.say("%s: %d devices and %d others on --wire bench:%s; Ctrl-C ends", site.Name, devices, others, socket)
	return b.Serve(ctx, l)
}

// roomForHosts lifts the program's own bound of memory, which is made for one who works on a site:
// whoever is the site has a TCP/IP stack for each host in it, and would collect garbage all the time.
func (a *App) roomForHosts() {
	if a.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(math.MaxInt64)
	}
}

// ordersOf is behind the name of a bench's socket, of the one that takes orders.
const ordersOf = ".do"

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
