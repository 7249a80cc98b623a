package cli

import (
	"fmt"
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

// unplain is what docs/words.md forbids in texts, with what to write in its place.
var unplain = []struct {
	what *regexp.Regexp
	say  string
}{
	{regexp.MustCompile(`(?i)\b(tells?|told|telling)\b`), "shows, reports, sets"},
	{regexp.MustCompile(`(?i)\bmend(s|ed)?\b`), "fix"},
	{regexp.MustCompile(`(?i)\bhung\b`), "installed"},
	{regexp.MustCompile(`(?i)\b(likewise|elsewhere|otherwise|by now|anew)\b`), "an everyday adverb"},
	{regexp.MustCompile(`(?i)\b(in the open|in clear)\b`), "unencrypted"},
	{regexp.MustCompile(`(?i)\b(bystanders?|strangers?|whoever answers)\b`), "other device"},
	{regexp.MustCompile(`(?i)\b(nothing is offered|budget)\b`), "no password is sent, tries left"},
	{regexp.MustCompile(`(?i)%[a-z] is no [a-z]`), "there is no, is not a"},
	{regexp.MustCompile(`(?i)\boffer(s|ed)? (it|a password|one key)\b`), "try"},
	{regexp.MustCompile(`(?i)\b(is|are) to (be|have)\b`), "must"},
	{regexp.MustCompile(`(?i)\bholds? (up )?nobody\b`), "who goes on"},
	{regexp.MustCompile(`(?i)\bmaker'?s?\b`), "manufacturer"},
	{regexp.MustCompile(`ctrl-C`), "Ctrl-C"},
	{regexp.MustCompile(`Nothing is written to any device`), "Writes to no device"},
}

// maxSentence is how many words a sentence may have; a longer one is a list.
const maxSentence = 45

// unplainIn gives what is not plain in a text.
func unplainIn(text string) (out []string) {
	text = strings.NewReplacer("--ground-anew", "", "makers:", "").Replace(text) // an option and a key, which stay
	for _, u := range unplain {
		if found := u.what.FindString(text); found != "" {
			out = append(out, fmt.Sprintf("%q: say %s", found, u.say))
		}
	}
	for _, sentence := range regexp.MustCompile(`[.:;]\s|\n\s*-|\n\n|\n  `).Split(text, -1) {
		if len(strings.Fields(sentence)) > maxSentence {
			out = append(out, fmt.Sprintf("a sentence this long is a list: %q", sentence))
		}
	}
	return out
}

// Every message is, in whatever package it is written: the literals of the program that are more
// than one word, but for what is no text for people (statements of SQL, patterns, tags of fields).
func TestMessagesArePlainEnglish(t *testing.T) {
	t.Parallel()
	set, texts := token.NewFileSet(), 0
	for _, ring := range []string{"../../core", "../../internal"} {
		require.NoError(t, filepath.WalkDir(ring, func(path string, d fs.DirEntry, err error) error {
			switch {
			case err != nil:
				return err
			case d.IsDir() && (d.Name() == "bench" || d.Name() == "e2e" || strings.HasSuffix(d.Name(), "test")):
				return fs.SkipDir
			case !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go"):
				return nil
			}
			file, err := parser.ParseFile(set, path, nil, 0)
			if err != nil {
				return err
			}
			ast.Inspect(file, func(n ast.Node) bool {
				if f, ok := n.(*ast.Field); ok && f.Tag != nil {
					return false
				}
				lit, ok := n.(*ast.BasicLit)
				if !ok || lit.Kind != token.STRING {
					return true
				}
				text, err := strconv.Unquote(lit.Value)
				if err != nil || len(strings.Fields(text)) < 2 || strings.Contains(text, "(?") {
					return true
				}
				texts++
				for _, wrong := range unplainIn(text) {
					assert.Fail(t, "docs/words.md", "%s: %s", set.Position(lit.Pos()), wrong)
				}
				return true
			})
			return nil
		}))
	}
	assert.Greater(t, texts, 1500, "the program has that many texts at least")
}

// Help is plain English of the trade, by docs/words.md.
func TestHelpIsPlainEnglish(t *testing.T) {
	t.Parallel()
	plain := func(where, text string) {
		for _, wrong := range unplainIn(text) {
			assert.Fail(t, "docs/words.md", "%s: %s", where, wrong)
		}
	}
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		where := c.CommandPath()
		plain(where+" (short)", c.Short)
		assert.LessOrEqual(t, len(strings.Fields(c.Short)), 14, "%s: %q", where, c.Short)
		assert.False(t, strings.HasSuffix(c.Short, "."), "%s: %q is no sentence", where, c.Short)
		plain(where, c.Long)
		c.LocalFlags().VisitAll(func(f *pflag.Flag) { plain(where+" --"+f.Name, f.Usage) })
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk((&App{}).Root())
}
