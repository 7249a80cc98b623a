package bench

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestADrawIsItsSeeds(t *testing.T) {
	one, traits, err := Draw(7, 30)
	require.NoError(t, err)
	again, same, err := Draw(7, 30)
	require.NoError(t, err)
	assert.Equal(t, one, again)
	assert.Equal(t, traits, same)
	_, other, err := Draw(8, 30)
	require.NoError(t, err)
	assert.NotEqual(t, traits, other)
	for id, list := range traits {
		assert.True(t, len(list) >= 1 && len(list) <= most, id)
	}
}

// Every trait is drawn, and can be applied by itself.
func TestEveryTraitIsDrawn(t *testing.T) {
	drawn := map[string]bool{}
	for seed := range uint64(60) {
		_, traits, err := Draw(seed, 40)
		require.NoError(t, err)
		for _, list := range traits {
			groups := map[string]bool{}
			for _, name := range list {
				drawn[name] = true
				assert.False(t, groups[name], "twice")
				groups[name] = true
			}
		}
	}
	for _, x := range Traits() {
		assert.True(t, drawn[x.Name], "%s is never drawn", x.Name)
		assert.NotEmpty(t, x.Stands, x.Name)
		_, err := WithTraits(1, "md5", []string{x.Name})
		assert.NoError(t, err, x.Name)
	}
}

// The tables in the documentation are those that devices are made by. UPDATE_TRAITS=1 writes
// them.
func TestMannersAndTraitsArePublished(t *testing.T) {
	var list strings.Builder
	list.WriteString("\n| manner | stands for |\n| --- | --- |\n")
	for _, name := range slices.Sorted(maps.Keys(manners)) {
		fmt.Fprintln(&list, "|", "`"+name+"`", "|", manners[name].stands, "|")
	}
	publish(t, "manners", list.String())
	var b strings.Builder
	b.WriteString("\n| trait | weight | one of | stands for | ends |\n| --- | --- | --- | --- | --- |\n")
	for _, x := range Traits() {
		ends := "set up"
		if x.Excuse != "" {
			ends = "not: " + x.Excuse
		}
		fmt.Fprintln(&b, "|", "`"+x.Name+"`", "|", x.Weight, "|", x.Group, "|", x.Stands, "|", ends, "|")
	}
	publish(t, "traits", b.String())
}

// publish holds, or writes, what stands between two marks in the documentation.
func publish(t *testing.T, mark, table string) {
	const path = "../../docs/bench.md"
	begin, end := "<!-- "+mark+" -->\n", "<!-- /"+mark+" -->"
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	head, rest, ok := strings.Cut(string(text), begin)
	require.True(t, ok)
	_, tail, ok := strings.Cut(rest, end)
	require.True(t, ok)
	want := head + begin + table + "\n" + end + tail
	if os.Getenv("UPDATE_TRAITS") != "" {
		require.NoError(t, os.WriteFile(path, []byte(want), 0o644))
		return
	}
	assert.True(t, want == string(text), "the table of %s is another: UPDATE_TRAITS=1 go test ./internal/bench -run Published", mark)
}
