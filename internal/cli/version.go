package cli

import (
	"fmt"
	"runtime/debug"
	"strings"
)

// Version, Commit and Date are set by the linker on releases; otherwise the build's own
// record is used.
var Version, Commit, Date string

// version tells the version, and the commit with its date where the build has them.
func version() string {
	v, commit, at, changed := Version, Commit, Date, ""
	if info, ok := debug.ReadBuildInfo(); ok && commit == "" {
		if v == "" {
			v = strings.Trim(info.Main.Version, "()")
		}
		for _, s := range info.Settings {
			switch s.Key {
			case "vcs.revision":
				commit = s.Value
			case "vcs.time":
				at, _, _ = strings.Cut(s.Value, "T")
			case "vcs.modified":
				if s.Value == "true" {
					changed = ", changed since"
				}
			}
		}
	}
	if v == "" {
		v = "devel"
	}
	if commit == "" {
		return v
	}
	const shown = 12
	return fmt.Sprintf("%s (commit %s of %s%s)", v, commit[:min(shown, len(commit))], at, changed)
}
