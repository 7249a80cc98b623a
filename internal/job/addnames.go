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
		pair, err := pairOf(ref, names[ref])
		if err != nil {
			return err
		}
		lines.WriteString("  " + pair + "\n")
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

// pairOf writes a reference and a name as a line of YAML.
func pairOf(ref, name string) (string, error) {
	pair, err := yaml.Marshal(map[string]string{ref: name})
	if err != nil {
		return "", fmt.Errorf("%w: %w", ErrSheet, err)
	}
	return strings.TrimSpace(string(pair)), nil
}

// Rename gives a reference that the sheet names already another name, and leaves everything
// else as it is, a comment behind the name too.
func Rename(path, ref, name string) error {
	data, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrSheet, err)
	}
	line, err := regexp.Compile(`(?m)^([ \t]+)["']?` + regexp.QuoteMeta(ref) + `["']?[ \t]*:[ \t]+("(?:[^"\\]|\\.)*"|'(?:[^']|'')*'|[^#\n]*?)([ \t]+#.*)?$`)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrSheet, err)
	}
	from := namesLine.FindIndex(data)
	if from == nil {
		return ErrOneLine
	}
	at := line.FindSubmatchIndex(data[from[1]:])
	if at == nil {
		return ErrOneLine
	}
	pair, err := pairOf(ref, name)
	if err != nil {
		return err
	}
	begin, end := from[1]+at[2], from[1]+at[1]
	text := string(data[begin:from[1]+at[3]]) + pair
	if at[6] >= 0 {
		text += string(data[from[1]+at[6] : from[1]+at[7]])
	}
	data = slices.Concat(data[:begin], []byte(text), data[end:])
	s, err := ParseSheet(data)
	if err != nil {
		return err
	}
	if s.Names[ref] != name { // the line was something else's
		return ErrOneLine
	}
	return WriteFile(path, data, 0o644)
}
