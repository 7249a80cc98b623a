package cli

import (
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"janustat/core/device"
	"janustat/internal/job"
	"janustat/internal/wire"
)

// complete fills in completion for shells: tags of the job as it is, selectors with their
// values, adapters, and what options take. Nothing is sent, and nothing asked.
func (a *App) complete(root *cobra.Command) {
	words := func(list ...string) cobra.CompletionFunc {
		return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return list, cobra.ShellCompDirectiveNoFileComp
		}
	}
	_ = root.RegisterFlagCompletionFunc("wire", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return adapterWords(), cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
	})
	_ = root.RegisterFlagCompletionFunc("log-level", words("debug", "info", "warn", "error"))
	_ = root.RegisterFlagCompletionFunc("json", words("document", "lines"))
	_ = root.MarkPersistentFlagDirname("job")
	kinds := words("camera", "recorder", "intercom", "panel")
	flags := map[string]map[string]cobra.CompletionFunc{
		"take": {"kind": kinds}, "list": {"columns": a.completeColumns, "sort": a.completeColumns}, "allot": {"again": a.completeSelectors},
		"handover": {"paper": words("a4", "letter"), "labels": words("24", "21", "40", "30")},
	}
	for _, c := range root.Commands() {
		for name, f := range flags[c.Name()] {
			_ = c.RegisterFlagCompletionFunc(name, f) // that it is there is held by a test
		}
		a.completeArgs(c)
		for _, sub := range c.Commands() {
			a.completeArgs(sub)
		}
	}
}

// completeArgs has a command's arguments completed by what its usage says that they are.
func (a *App) completeArgs(c *cobra.Command) {
	_, args, _ := strings.Cut(c.Use, " ")
	switch {
	case c.ValidArgsFunction != nil:
	case strings.Contains(args, "SELECTOR"):
		c.ValidArgsFunction = a.completeSelectors
	case strings.Contains(args, "DEVICE"), strings.Contains(args, "RECORDER"):
		c.ValidArgsFunction = a.completeDevices
	case args == "":
		c.ValidArgsFunction = cobra.NoFileCompletions
	}
}

// adapterWords are what --wire takes here.
func adapterWords() []string {
	out := []string{"plain", "bench:"}
	adapters, err := wire.Adapters()
	if err != nil {
		return out
	}
	for _, x := range adapters {
		state := "down"
		if x.Up && x.Link {
			state = "link"
		}
		out = append(out, x.Name+"\t"+state)
	}
	return out
}

// known reads what the job's devices are called; a job that cannot be read has none.
func (a *App) known(c *cobra.Command) (*job.Job, []device.Device) {
	was := a.quiet // the job is looked for as for any command, and nothing is said of it
	a.quiet = true
	a.remembered(c)
	a.quiet = was
	j, err := job.Open(c.Context(), a.jobDir)
	if err != nil {
		return nil, nil
	}
	devices, err := j.Register.Called(c.Context())
	if err != nil {
		j.Close()
		return nil, nil
	}
	return j, devices
}

func (a *App) completeDevices(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	j, devices := a.known(c)
	if j == nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	defer j.Close()
	among := j.Sheet.Among(devices)
	var out []string
	for i := range devices {
		d := &devices[i]
		if d.Kind == device.Other && d.InJob != device.Taken || d.MAC.IsZero() {
			continue
		}
		ref := refText(d)
		if !slices.Contains(args, ref) {
			out = append(out, ref+"\t"+strings.TrimSpace(string(d.Kind)+" "+nameIn(among, d)))
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func (a *App) completeSelectors(c *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	filters := device.FilterWords()
	if key, _, ok := strings.Cut(typed, "="); ok {
		var out []string
		for _, w := range filters[key] {
			out = append(out, key+"="+w)
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
	out, _ := a.completeDevices(c, args, typed)
	for _, key := range slices.Sorted(maps.Keys(filters)) {
		out = append(out, key+"=")
	}
	return append(out, "all"), cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}

func (a *App) completeColumns(c *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
	before := typed[:strings.LastIndexByte(typed, ',')+1]
	keys := columnKeys()
	if j, _ := a.known(c); j != nil {
		defer j.Close()
		if notes, err := j.Register.Notes(c.Context()); err == nil {
			for _, n := range notes {
				for f := range n {
					if !slices.Contains(keys, f) {
						keys = append(keys, f)
					}
				}
			}
		}
	}
	for i := range keys {
		keys[i] = before + keys[i]
	}
	return keys, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}
