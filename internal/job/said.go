package job

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"janustat/internal/disk"
)

// Said is what was said last on this machine, to go by where nothing is said.
type Said struct {
	Job  string `json:"job,omitempty"` // a folder, in full
	Wire string `json:"wire,omitempty"`
}

const saidFile = "said.json"

// LastSaid reads what was said last, from this machine's own folder. What cannot be read was
// not said.
func LastSaid(state string) (s Said) {
	data, err := os.ReadFile(filepath.Join(state, saidFile))
	if err != nil || json.Unmarshal(data, &s) != nil {
		return Said{}
	}
	return s
}

// Keep keeps it for the next time.
func (s Said) Keep(state string) error {
	if err := os.MkdirAll(state, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	data, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return disk.WriteFile(filepath.Join(state, saidFile), data, 0o600)
}
