// Package cli is the command line: the commands, their tables, prompts and live
// view. It is the only code that prints.
package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"janustat/core/advice"
	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/secret"
	"janustat/core/sheet"
	"janustat/core/text"
	"janustat/internal/job"
	"janustat/internal/pace"
	"janustat/internal/wire"
	"janustat/internal/work"
)

// Exit codes of the program.
const (
	ExitDone  = 0 // done and true
	ExitNeeds = 1 // done, but something needs the installer
	ExitUsage = 2 // wrong usage or bad job sheet
	ExitCould = 3 // could not run
)

// App is the program with its streams and environment.
type App struct {
	In     io.Reader
	Out    io.Writer // results only
	Err    io.Writer // progress, prompts and logs
	Getenv func(string) string
	// Journal, if set, is put around the journal of a commissioning: a test of what an
	// interruption does looks in there.
	Journal func(commission.Journal) commission.Journal
	// Pace is that of the times of protocols, for tests on a bench that keeps up with it.
	Pace pace.Pace
	// KeyWork, if set, is the scrypt work factor of keyrings written, for tests.
	KeyWork int

	jobDir, wireSpec, passphraseFile, logLevel, capture string
	json, lined, yes, quiet, captureKeys                bool

	writing  sync.Mutex // of lines of JSON
	asBefore bool       // the wire was not said, and is that of last time
	lastJob  string     // that was worked on last, where it is not gone by

	veil  secret.Veil // passwords in play, blanked out of what devices say
	lines *lineReader // of In
}

// usageError is wrong usage: exit code 2.
type usageError struct{ error }

func (e usageError) Unwrap() error { return e.error }

func usagef(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// needsError ends a command that was carried out but left something to the installer.
type needsError struct{ text string }

func (e needsError) Error() string { return e.text }

// Run carries out one command line and gives the exit code.
func (a *App) Run(ctx context.Context, args []string) int {
	written := &checked{to: a.Out}
	if _, tty := terminal(a.Out); !tty && a.Out != nil {
		a.Out = written
	}
	if a.Err != nil {
		a.Err = outletOf(a.Err)
	}
	root := a.Root()
	root.SetArgs(append([]string{}, args...)) // none are none, and not those of the process
	root.SetIn(a.In)
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	completing := bufio.NewWriter(a.Out) // a thousand tags are a thousand writes otherwise
	if len(args) > 0 && strings.HasPrefix(args[0], cobra.ShellCompRequestCmd) {
		root.SetOut(completing)
	}
	ran, err := root.ExecuteContextC(ctx)
	_ = completing.Flush() // written knows
	if err == nil && written.err != nil {
		err = fmt.Errorf("standard output: %w: what was done is done, and what was to be shown is cut off", written.err)
	}
	if code := exitCode(err); code == ExitDone || code == ExitNeeds {
		a.keepSaid(ran)
	}
	if err != nil {
		var needs needsError
		var told quietly
		if !errors.As(err, &told) && (!errors.As(err, &needs) || needs.text != "") {
			fmt.Fprintf(a.Err, "janustat: %s\n", a.veil.Text(errorText(err)))
		}
	}
	code := exitCode(err)
	if a.lined {
		end := lineJSON{Event: "end", Exit: &code}
		if err != nil {
			end.Text = a.veil.Text(errorText(err))
		}
		if lerr := a.line(end); lerr != nil && code == ExitDone {
			return ExitCould
		}
	}
	return code
}

// errInterrupted ends a command that a person, or the system, has stopped.
var errInterrupted = work.ErrInterrupted

// errorText tells an interruption by one word, whatever it interrupted.
func errorText(err error) string {
	if errors.Is(err, context.Canceled) && !errors.Is(err, errInterrupted) {
		return "interrupted. Run the same command again; it continues from here"
	}
	words := advice.TextOf(err, command)
	if errors.Is(err, wire.ErrPermission) {
		words += "; or go without, by --wire plain, for what the laptop's own address reaches"
	}
	return words
}

func exitCode(err error) int {
	var usage usageError
	var needs needsError
	var misuse *work.Misuse
	var unfinished *work.Unfinished
	var disagree *ground.DisagreeError
	var ambiguous *device.AmbiguousError
	switch {
	case err == nil:
		return ExitDone
	case errors.As(err, &needs), errors.As(err, &unfinished), errors.Is(err, errInterrupted), errors.Is(err, context.Canceled):
		return ExitNeeds
	case errors.As(err, &usage), errors.As(err, &misuse), errors.As(err, &disagree), errors.As(err, &ambiguous),
		errors.Is(err, sheet.ErrSheet), errors.Is(err, job.ErrNoJob), errors.Is(err, job.ErrJobThere), errors.Is(err, device.ErrNoDevice),
		errors.Is(err, ground.ErrFull), errors.Is(err, ground.ErrStrand), errors.Is(err, ground.ErrNoGround):
		return ExitUsage
	default:
		return ExitCould
	}
}

// inOrder has commands listed in the order of the work.
var inOrder = sync.OnceFunc(func() { cobra.EnableCommandSorting = false })

// Root gives all commands, below the bare one.
func (a *App) Root() *cobra.Command {
	inOrder()
	root := &cobra.Command{
		Use:   "janustat",
		Short: "Set up the security devices of a site",
		Long: `Janustat sets up the cameras, recorders, intercoms and access panels on a LAN. It finds
them, sets their first passwords, gives each a free static address, tests the result and
writes the handover record. It never changes this laptop's own network settings.

Do a whole job step by step:           janustat go
Watch the whole story without any hardware:  janustat demo

A job by single commands, in the order of the work:
  janustat begin DIR       a new job folder
  janustat survey          find what is on the LAN
  janustat take all        choose what belongs to the job
  janustat allot           decide every address, on paper
  janustat commission      carry it out
  janustat prove           read everything back
  janustat handover        write the record`,
		Example:       "  janustat demo\n  janustat begin quillmere && cd quillmere && janustat survey --wire eth0",
		Version:       version(),
		SilenceErrors: true, SilenceUsage: true,
		Args: noArgs,
		PersistentPreRunE: func(c *cobra.Command, _ []string) error {
			if f := c.Flags().Lookup("wire"); f != nil && f.Changed && a.wireSpec == "" {
				return usagef("--wire names no adapter: give its name, or leave --wire out for the only one that is up")
			}
			if _, err := a.logger(); err != nil {
				return err
			}
			a.remembered(c)
			return nil
		},
		RunE: func(c *cobra.Command, _ []string) error { return a.status(c.Context()) },
	}
	f := root.PersistentFlags()
	f.StringVar(&a.jobDir, "job", ".", "the job's folder; left out, JANUSTAT_JOB, the nearest one from here upwards, or the one used last")
	f.StringVar(&a.wireSpec, "wire", "", "network adapter to use, by its `name`, such as eth0; plain (works without root, reaches less) or bench:PATH (a simulated site); left out: JANUSTAT_WIRE, the one used last, or the only adapter that is up")
	f.StringVar(&a.passphraseFile, "passphrase-file", "", "read the keyring's passphrase from this `file` (or set JANUSTAT_PASSPHRASE)")
	f.StringVar(&a.capture, "capture", "", "record every frame that comes and goes in this new pcapng `file`; requests that set a password are blanked")
	f.BoolVar(&a.captureKeys, "capture-keys", false, "keep the requests that set a password in the capture too")
	f.VarPF(jsonForm{a}, "json", "", "one JSON document on standard output; --json=lines: an event a line while it goes on").NoOptDefVal = "document"
	f.BoolVar(&a.yes, "yes", false, "do not ask")
	f.BoolVar(&a.quiet, "quiet", false, "no progress on standard error")
	f.StringVar(&a.logLevel, "log-level", "warn", "debug, info, warn or error")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error { return flagError(c, meantFlag(err)) })
	root.SetVersionTemplate("janustat {{.Version}}\n")
	a.addGroups(root)
	a.complete(root)
	return root
}

// addGroups adds all commands, in the groups that the help shows.
func (a *App) addGroups(root *cobra.Command) {
	for _, g := range []struct {
		id, title string
		commands  []*cobra.Command
	}{
		{"hands", "By Enter:", []*cobra.Command{a.goCommand(), a.ladderCommand(), a.demoCommand()}},
		{"job", "The job, in the order of the work:", []*cobra.Command{
			a.beginCommand(), a.wireCommand(), a.surveyCommand(), a.takeCommand(), a.leaveCommand(), a.keyCommand(), a.allotCommand(), a.commissionCommand(),
			a.proveCommand(), a.viewsCommand(), a.backupCommand(), a.firmwareCommand(), a.handoverCommand(),
		}},
		{"look", "Look things up:", []*cobra.Command{a.listCommand(), a.showCommand(), a.logCommand(), a.channelsCommand(), a.compareCommand()}},
		{"say", "Names, notes and tags:", []*cobra.Command{
			a.nameCommand(), a.noteCommand(), a.scheduleCommand(), a.retagCommand(), a.swapCommand(), a.forgetCommand(), a.undoCommand(),
		}},
		{"devices", "Single devices:", []*cobra.Command{a.winkCommand(), a.webCommand(), a.leaseCommand(), a.restartCommand(), a.resetCommand(), a.restoreCommand(), a.putbackCommand()}},
		{"rest", "Everything else:", []*cobra.Command{a.benchCommand()}},
	} {
		root.AddGroup(&cobra.Group{ID: g.id, Title: g.title})
		for _, c := range g.commands {
			c.GroupID = g.id
			root.AddCommand(c)
		}
	}
	root.SetHelpCommandGroupID("rest")
	root.SetCompletionCommandGroupID("rest")
}

// noArgs refuses arguments, as wrong usage.
func noArgs(c *cobra.Command, args []string) error {
	if len(args) > 0 {
		var names []string
		for _, sub := range c.Commands() {
			if sub.IsAvailableCommand() {
				names = append(names, sub.Name())
			}
		}
		if len(names) == 0 {
			return usagef("%s takes no %q; `%s --help` shows what it takes", c.Name(), args[0], c.CommandPath())
		}
		return usagef("there is no command %q%s; `%s --help` lists the commands", args[0], meantCommand(args[0], names), c.CommandPath())
	}
	return nil
}

// say writes a line of progress.
func (a *App) say(format string, args ...any) {
	if a.lined && !a.quiet {
		_ = a.line(lineJSON{Event: "told", Text: a.veil.Text(fmt.Sprintf(format, args...))}) // as when nobody reads
		return
	}
	if !a.quiet && !a.lined {
		fmt.Fprintf(a.Err, format+"\n", args...)
	}
}

func (a *App) logger() (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(a.logLevel)); err != nil {
		return nil, usagef("--log-level %s: use debug, info, warn or error", a.logLevel)
	}
	return slog.New(slog.NewTextHandler(logTo{outletOf(a.Err)}, &slog.HandlerOptions{Level: level, ReplaceAttr: func(_ []string, x slog.Attr) slog.Attr {
		switch v := x.Value.Any().(type) { // what devices say may quote a password
		case string:
			x.Value = slog.StringValue(a.veil.Text(v))
		case error:
			x.Value = slog.StringValue(a.veil.Text(text.Error(v, nil).Error()))
		}
		return x
	}})), nil
}

// open opens the job for reading.
func (a *App) open(ctx context.Context) (*job.Job, []device.Device, error) {
	j, err := job.Open(ctx, a.jobDir)
	if err != nil {
		return nil, nil, err
	}
	devices, err := readDevices(ctx, j)
	if err != nil {
		j.Close()
		return nil, nil, err
	}
	return j, devices, nil
}

// withJob runs f on the locked job.
func (a *App) withJob(ctx context.Context, command string, f func(*work.Desk) error) error {
	if _, err := os.Stat(a.jobDir); err != nil {
		return fmt.Errorf("%w: %w", job.ErrNoJob, err)
	}
	j, err := job.Open(ctx, a.jobDir)
	if err != nil {
		return err
	}
	defer j.Close()
	lock, err := j.Lock(command)
	if err != nil {
		return err
	}
	defer lock.Unlock()
	// Read under the lock, and once: another program may just have finished.
	devices, err := readDevices(ctx, j)
	if err != nil {
		return err
	}
	desk, err := a.desk(j, devices)
	if err != nil {
		return err
	}
	err = f(desk)
	a.tellStale(j)
	return err
}

// desk lays a job out to be worked on.
func (a *App) desk(j *job.Job, devices []device.Device) (*work.Desk, error) {
	log, err := a.logger()
	if err != nil {
		return nil, err
	}
	return &work.Desk{Job: j, Devices: devices, Veil: &a.veil, State: job.StateDir(a.Getenv), Log: log, Say: a.say, Words: command, Around: a.Journal}, nil
}

// readDevices reads the register, and marks what the job sheet says is another's, and what
// somebody has set up.
func readDevices(ctx context.Context, j *job.Job) ([]device.Device, error) {
	devices, err := j.Register.Devices(ctx)
	for i := range devices {
		devices[i].NotOurs = j.Sheet.IsNotOurs(devices[i].Address())
	}
	if err != nil {
		return nil, err
	}
	return devices, work.MarkApart(ctx, j, devices)
}
