package job

import (
	"fmt"
	"os"
	"path/filepath"
)

// StateDir gives the folder for the record: JANUSTAT_STATE, or where the system keeps
// the state of programs (XDG Base Directory Specification), or one beside the
// temporary files where nothing else can be had.
func StateDir(getenv func(string) string) string {
	if dir := getenv("JANUSTAT_STATE"); dir != "" {
		return dir
	}
	if dir := getenv("XDG_STATE_HOME"); filepath.IsAbs(dir) {
		return filepath.Join(dir, "janustat")
	}
	if home, err := os.UserHomeDir(); err == nil && filepath.IsAbs(home) {
		dir := filepath.Join(home, ".local", "state", "janustat")
		if os.MkdirAll(dir, 0o700) == nil {
			return dir
		}
	}
	return filepath.Join(os.TempDir(), fmt.Sprintf("janustat-%d", os.Getuid()))
}
