package cli

import (
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	// namedCommand is a command line in a message: in backquotes, or after a colon.
	namedCommand = regexp.MustCompile("`janustat ([^`]+)`|(?:Next|next|or|then|Or|them|each|of|others|forgets it|lines?): ?janustat ([a-z][a-z -]*[a-z])")
	verb         = regexp.MustCompile(`%(\[\d\])?[a-z]`)
)

// typeable reports why the program does not take a command line, "" if it does.
func typeable(line string) error {
	line = strings.NewReplacer("…", "", `"Ticket hall east"`, "Quay", "FIELD=TEXT", "place=x").Replace(verb.ReplaceAllString(line, "C01"))
	args := strings.Fields(line)
	app := &App{}
	c, rest, err := app.Root().Find(args)
	if err != nil {
		return err
	}
	if err := c.ParseFlags(rest); errors.Is(err, pflag.ErrHelp) {
		return nil
	} else if err != nil {
		return err
	}
	return c.ValidateArgs(c.Flags().Args())
}

// Every command line that a message anywhere names is one that the program takes.
func TestEveryCommandThatAMessageNames(t *testing.T) {
	found := 0
	for _, dir := range []string{"../../internal", "../../core"} {
		require.NoError(t, filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
			if err != nil {
				return err
			}
			ast.Inspect(file, func(n ast.Node) bool {
				lit, ok := n.(*ast.BasicLit)
				if !ok || lit.Kind != token.STRING {
					return true
				}
				text, err := strconv.Unquote(lit.Value)
				require.NoError(t, err)
				for _, m := range namedCommand.FindAllStringSubmatch(text, -1) {
					line := m[1] + m[2]
					if strings.HasPrefix(line, "%s") || strings.HasPrefix(line, "%v") { // made from what TestEveryAdviceIsACommand tries
						continue
					}
					found++
					assert.NoError(t, typeable(line), "%s: %q", path, line)
				}
				return true
			})
			return nil
		}))
	}
	assert.Greater(t, found, 60)
}

// Every example of every command is one that it takes, and every command has one.
func TestEveryExample(t *testing.T) {
	app := &App{}
	var each func(c *cobra.Command)
	each = func(c *cobra.Command) {
		if c.IsAvailableCommand() && c.Name() != "help" && c.Name() != "completion" && c.Parent() != nil && c.Parent().Name() != "completion" {
			assert.NotEmpty(t, c.Example, c.CommandPath())
			assert.NotEmpty(t, c.Short, c.CommandPath())
		}
		for line := range strings.Lines(c.Example) {
			for _, part := range strings.Split(line, "&&") {
				part, _, _ = strings.Cut(part, " < ")
				part, _, _ = strings.Cut(part, " > ")
				part, _, _ = strings.Cut(part, " | ")
				if words, ok := strings.CutPrefix(strings.TrimSpace(part), "janustat "); ok {
					quoted := regexp.MustCompile(`"[^"]*"`).ReplaceAllString(words, "x=y")
					if strings.Contains(words, "=\"") {
						quoted = strings.NewReplacer(`="`, "=", `"`, "").Replace(regexp.MustCompile(`"([^"]*)"`).ReplaceAllStringFunc(words, func(q string) string { return strings.ReplaceAll(q, " ", "_") }))
					}
					assert.NoError(t, typeable(quoted), "%s: %s", c.CommandPath(), part)
				}
			}
		}
		for _, sub := range c.Commands() {
			each(sub)
		}
	}
	each(app.Root())
}
