package job

import (
	"bytes"
	"fmt"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
)

// ErrOneLine is returned where names stand on one line with their key.
var ErrOneLine = fmt.Errorf("%w: its names stand on one line: write each on a line of its own", ErrSheet)

var namesLine = regexp.MustCompile(`(?m)^names:[ \t]*(#.*)?$`)

// AddNames writes names of devices into a job sheet, by reference, and leaves everything
// else in it as it is, comments too. What the sheet names already is not to be among them.
func AddNames(path string, names map[string]string) error {
	if len(names) == 0 {
		return nil
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrSheet, err)
	}
	var lines bytes.Buffer
	for _, ref := range slices.Sorted(maps.Keys(names)) {
		pair, err := yaml.Marshal(map[string]string{ref: names[ref]})
		if err != nil {
			return fmt.Errorf("%w: %w", ErrSheet, err)
		}
		lines.WriteString("  " + strings.TrimSpace(string(pair)) + "\n")
	}
	at := namesLine.FindIndex(data)
	switch {
	case at != nil:
		end := at[1]
		if end < len(data) {
			end++ // the line's end
		}
		data = slices.Concat(data[:end], lines.Bytes(), data[end:])
	case regexp.MustCompile(`(?m)^names:`).Match(data):
		return ErrOneLine
	default:
		if len(data) > 0 && data[len(data)-1] != '\n' {
			data = append(data, '\n')
		}
		data = slices.Concat(data, []byte("\nnames:\n"), lines.Bytes())
	}
	if _, err := ParseSheet(data); err != nil {
		return err
	}
	return WriteFile(path, data, 0o644)
}
