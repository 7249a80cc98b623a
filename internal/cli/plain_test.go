package cli

import (
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
)

// unplain is what docs/words.md forbids in help texts, with what to write in its place.
var unplain = []struct {
	what *regexp.Regexp
	say  string
}{
	{regexp.MustCompile(`(?i)\b(tells?|told|telling)\b`), "shows, reports, sets"},
	{regexp.MustCompile(`(?i)\bmend(s|ed)?\b`), "fix"},
	{regexp.MustCompile(`(?i)\bhung\b`), "installed"},
	{regexp.MustCompile(`(?i)\b(likewise|elsewhere|otherwise|by now)\b`), "an everyday adverb"},
	{regexp.MustCompile(`(?i)\b(in the open|in clear)\b`), "unencrypted"},
	{regexp.MustCompile(`(?i)\b(bystanders?|strangers?|whoever answers there)\b`), "other device"},
	{regexp.MustCompile(`(?i)\boffer(s|ed)? (it|a password|one key)\b`), "try"},
	{regexp.MustCompile(`(?i)\b(is|are) to (be|have)\b`), "must"},
	{regexp.MustCompile(`(?i)\bholds? (up )?nobody\b`), "who goes on"},
	{regexp.MustCompile(`(?i)\bits maker'?s?\b`), "manufacturer"},
	{regexp.MustCompile(`ctrl-C`), "Ctrl-C"},
	{regexp.MustCompile(`Nothing is written to any device`), "Writes to no device"},
}

// Help is plain English of the trade, by docs/words.md.
func TestHelpIsPlainEnglish(t *testing.T) {
	t.Parallel()
	plain := func(where, text string) {
		for _, u := range unplain {
			if found := u.what.FindString(text); found != "" {
				assert.Fail(t, "docs/words.md", "%s: %q: say %s", where, found, u.say)
			}
		}
		for _, sentence := range regexp.MustCompile(`[.:;]\s|\n\s*-|\n\n|\n  `).Split(text, -1) {
			assert.LessOrEqual(t, len(strings.Fields(sentence)), 45, "%s: a sentence this long is a list: %q", where, sentence)
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
	walk((&App{}).root())
}
