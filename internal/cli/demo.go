package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"janustat/internal/bench"
	"janustat/internal/disk"
	"janustat/internal/job"
)

// The demo's own made-up secrets: the client's people wrote the recorder's
// password on a note, and the installer chose the passphrase.
const (
	demoPassphrase = "ferry at quillmere"
	demoRecorder   = "Harbour-Light-42"
)

func (a *App) demoCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "demo [DIR]",
		Short: "Watch the whole story on a simulated site; no root, no network",
		Long: `Plays a job at the made-up Quillmere Ferry Terminal, from boxes to a handover
record, through the real commands against a simulated site in this process. The
job folder stays, to look into. It takes less than a minute.`,
		Example: "  janustat demo\n  janustat demo /tmp/quillmere",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usagef("demo takes one folder at most")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			dir := ""
			if len(args) == 1 {
				dir = args[0]
			}
			return a.demo(c.Context(), dir)
		},
	}
}

// demoDir gives the folder asked for, or the first free name here.
func demoDir(dir string) (string, error) {
	if dir != "" {
		if _, err := os.Stat(filepath.Join(dir, job.SheetFile)); err == nil {
			return "", usagef("there is a job in %s already: name another folder", dir)
		}
		return dir, nil
	}
	for n := 1; ; n++ {
		dir = "quillmere-demo"
		if n > 1 {
			dir = fmt.Sprintf("quillmere-demo-%d", n)
		}
		if _, err := os.Stat(dir); errors.Is(err, os.ErrNotExist) {
			return dir, nil
		}
	}
}

func (a *App) demo(ctx context.Context, dir string) error {
	begun := time.Now()
	dir, err := demoDir(dir)
	if err != nil {
		return err
	}
	site, err := bench.Load(bench.Demo)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	a.roomForHosts()
	b, err := bench.Start(ctx, site, bench.NewLog(nil))
	if err != nil {
		return err
	}
	defer b.Stop()
	// Unix socket paths are short, so it does not go into the job's folder.
	tmp, err := os.MkdirTemp("", "janustat")
	if err != nil {
		return err
	}
	defer os.RemoveAll(tmp)
	socket := filepath.Join(tmp, "bench.sock")
	l, err := listenSocket(socket)
	if err != nil {
		return err
	}
	go func() { _ = b.Serve(ctx, l) }() // ends with ctx

	d := demoPlayer{app: a, dir: dir, socket: socket}
	d.note("%s: new devices hang on the walls, still as they came out of their boxes.", site.Name)
	if err := d.play(ctx); err != nil {
		return err
	}
	d.note("That was the whole job, in %.0f s. Look into it:", time.Since(begun).Seconds())
	fmt.Fprintf(a.Out, "  cd %s && janustat list\n  janustat show C01\n  janustat key show C01      (passphrase: %s)\n  %s\n",
		dir, demoPassphrase, filepath.Join(dir, job.HandoverDir, "handover.pdf"))
	return nil
}

// demoPlayer runs the program's own commands, each shown as it would be typed.
type demoPlayer struct {
	app         *App
	dir, socket string
}

func (d demoPlayer) note(format string, args ...any) {
	fmt.Fprintf(d.app.Out, "\n%s\n", d.app.paint(d.app.Out, workStyle, "# "+fmt.Sprintf(format, args...)))
}

func (d demoPlayer) run(ctx context.Context, stdin, shown string, args ...string) error {
	out := d.app.Out
	fmt.Fprintf(out, "\n%s\n", d.app.paint(out, headStyle, strings.TrimSpace("$ janustat "+shown)))
	inner := App{In: strings.NewReader(stdin), Out: out, Err: d.app.Err, Getenv: func(key string) string {
		switch key {
		case "JANUSTAT_PASSPHRASE":
			return demoPassphrase
		case "JANUSTAT_STATE": // simulated devices are no business of this machine's record
			return filepath.Join(filepath.Dir(d.socket), "state")
		}
		return d.app.Getenv(key)
	}}
	args = append(args, "--job", d.dir, "--wire", "bench:"+d.socket)
	if d.app.quiet {
		args = append(args, "--quiet")
	}
	if code := inner.Run(ctx, args); code != ExitDone {
		if ctx.Err() != nil {
			return fmt.Errorf("%w: the demo's job is in %s", errInterrupted, d.dir)
		}
		return fmt.Errorf("the demo stopped: `janustat %s` ended with code %d; its job is in %s", shown, code, d.dir)
	}
	return nil
}

// demoNames are what the devices look at, by what is on their label.
const demoNames = `
# What each device is called, by the serial or the MAC on its label:
names:
  LG16-003318: Plant room recorder
  VD420-77001: Ticket hall east
  VD420-77002: Ticket hall west
  VD420-77003: Ticket desk 1
  VD420-77004: Ticket desk 2
  VD420-77005: Waiting room
  VB410-55001: Vehicle ramp up
  VB410-55002: Vehicle ramp down
  VB410-55003: Ramp barrier
  VB410-55004: Car park north
  VB410-55005: Car park south
  02:0a:c0:00:03:01: Gangway A
  02:0a:c0:00:03:02: Gangway B
  02:0a:c0:00:03:03: Gangway C
  02:0a:c0:00:03:04: Gangway D
  TPC-9001: Crew door inside
  TPC-9002: Quay
  TPC-9003: Freight office
  TPC-9004: Store
  TV8-0177: Ticket office recorder
  02:0a:c0:00:05:01: Crew door
  02:0a:c0:00:05:03: Ticket door
  02:0a:c0:00:05:04: Quay door
  OHS-3108: Office
  OHH-4411001: Ticket hall
  OHH-4411002: Waiting room desk
  OHH-4411003: Crew mess
  OHH-4411004: Harbour master
  GH4-0612: Vehicle gate
  GHH-0711001: Gangway A panel
  GHH-0711002: Gangway B panel
  GHH-0711003: Staff door panel
  TH2-0042: Hall speaker

# Devices that work together. Cameras go to free channels, one recorder after the other;
# each door station rings indoor stations, by floor and flat; panels report to a server:
channels: auto
intercoms:
  02:0a:c0:00:05:01: {OHS-3108: {floor: 1, flat: 101}, OHH-4411003: {floor: 1, flat: 102}}
  02:0a:c0:00:05:03: {OHH-4411001: {floor: 0, flat: 1}, OHH-4411002: {floor: 0, flat: 2}}
  02:0a:c0:00:05:04: {OHH-4411004: {floor: 1, flat: 104}}
reporting: {server: 10.61.8.6, port: 7700}

# Where a device has HTTPS, its password goes over that, and the site's own authority signs for it:
https: on
certificates: site

# Whose MACs begin so; IEEE's registry knows real ones by itself:
survey:
  makers:
    "02:5c:00": Brightmoor
    "02:9d:00:00:00:30": Tallow & Pike
`

func (d demoPlayer) play(ctx context.Context) error {
	steps := []func() error{
		func() error {
			return d.run(ctx, "", "begin "+d.dir+` --name "Quillmere Ferry Terminal"`, "begin", d.dir, "--name", "Quillmere Ferry Terminal")
		},
		d.editSheet,
		func() error { return d.run(ctx, "", "survey", "survey") },
		func() error {
			d.note("Five domes out of one carton share a factory address; an old camera is sealed and stays out.")
			return d.run(ctx, "", "take all 10.61.8.10 --yes", "take", "all", "10.61.8.10", "--yes")
		},
		func() error {
			d.note("The client's people set the recorder up and know its password. It shows the site's subnet.")
			return d.run(ctx, demoRecorder+"\n", "key set R01 < recorder-password.txt", "key", "set", "R01")
		},
		func() error { return d.run(ctx, "", "allot", "allot") },
		func() error { return d.run(ctx, "", "commission --yes", "commission", "--yes") },
		func() error { return d.run(ctx, "", "prove", "prove") },
		func() error {
			d.note("A look through every camera; the stills go into the record.")
			return d.run(ctx, "", "views", "views")
		},
		func() error { return d.run(ctx, "", "handover", "handover") },
		func() error { return d.run(ctx, "", "") },
	}
	for _, s := range steps {
		if err := s(); err != nil {
			return err
		}
		if err := ctx.Err(); err != nil {
			return fmt.Errorf("the demo was stopped; its job is in %s: %w", d.dir, err)
		}
	}
	return nil
}

// editSheet does what the installer does by hand: names and the DHCP pool.
func (d demoPlayer) editSheet() error {
	path := filepath.Join(d.dir, job.SheetFile)
	text, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("demo: %w", err)
	}
	const pool = "dhcp_pools: [10.61.9.100-10.61.9.199]"
	edited := strings.Replace(string(text), "# "+pool, pool, 1)
	if edited == string(text) {
		return errors.New("demo: the new job sheet lacks its line for DHCP pools")
	}
	d.note("The installer names the devices in %s and notes the range of the site's DHCP server.", job.SheetFile)
	return disk.WriteFile(path, []byte(edited+demoNames), 0o644)
}
