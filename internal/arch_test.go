// Package internal holds no code; this test holds the architecture: imports
// point inwards only.
package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// inside lists, for each ring, the project's packages it may import. A trailing
// slash stands for all below. What is not listed may import nothing of ours.
var inside = map[string][]string{
	"core/advice":                {},
	"core/evidence":              {},
	"core/text":                  {},
	"core/secret":                {},
	"core/ground":                {"core/advice", "core/text"},
	"core/device":                {"core/advice", "core/evidence", "core/secret", "core/text", "core/setting", "core/settings", "core/settings/"},
	"core/commission":            {"core/advice", "core/device", "core/evidence", "core/ground", "core/secret", "core/text", "core/setting", "core/settings", "core/settings/"},
	"core/firmware":              {},
	"core/lan":                   {"core/advice", "core/device"},
	"core/open":                  {"core/advice", "core/device", "core/text", "core/checks"},
	"core/setting":               {},
	"core/settings":              {"core/setting", "core/settings/"},
	"core/settings/":             {"core/setting"},
	"core/checks":                {"core/advice", "core/settings"},
	"core/keys":                  {"core/commission", "core/device", "core/evidence", "core/secret"},
	"core/sheet":                 {"core/commission", "core/device", "core/ground", "core/secret", "core/text", "core/setting", "core/settings", "core/settings/"},
	"core/policy":                {"core/advice", "core/commission", "core/device", "core/ground", "core/keys", "core/lan", "core/secret", "core/sheet", "core/text", "core/setting", "core/settings", "core/settings/"},
	"core/proving":               {"core/advice", "core/commission", "core/device", "core/evidence", "core/secret", "core/text", "core/checks", "core/setting", "core/settings"},
	"internal/nic":               {"core/device", "internal/speak/arp"},
	"internal/wire":              {"core/device", "core/lan", "core/secret", "core/text", "internal/intake"},
	"internal/keeper":            {},
	"internal/intake":            {},
	"internal/trace":             {},
	"internal/kernelwire":        {"core/device", "core/lan", "internal/nic", "internal/speak/hail", "internal/wire"},
	"internal/speak/":            {"core/", "internal/pace", "internal/speak/", "internal/trace"},
	"internal/reach":             {"core/", "internal/pace", "internal/wire", "internal/nic", "internal/speak/arp", "internal/speak/acd", "internal/speak/ndp", "internal/speak/membership"},
	"internal/oui":               {"core/device"},
	"internal/pace":              {},
	"internal/secure":            {},
	"internal/authority":         {"core/device"},
	"internal/web":               {"internal/secure"},
	"internal/tongue":            {"core/", "internal/authority", "internal/reach"},
	"internal/tongue/":           {"core/", "internal/authority", "internal/pace", "internal/reach", "internal/secure", "internal/speak/", "internal/tongue"},
	"internal/tongues":           {"core/commission", "internal/tongue", "internal/tongue/"},
	"internal/survey":            {"core/", "internal/authority", "internal/pace", "internal/reach", "internal/speak/", "internal/tongue", "internal/tongues", "internal/tongue/standard", "internal/wire"},
	"internal/lease":             {"core/", "internal/reach", "internal/speak/", "internal/survey"},
	"internal/site":              {"core/", "internal/authority", "internal/pace", "internal/reach", "internal/speak/acd", "internal/survey", "internal/tongue", "internal/tongues"},
	"internal/reach/reachtest":   {"core/device", "internal/bench", "internal/bench/benchtest", "internal/reach", "internal/wire"},
	"internal/survey/surveytest": {"core/device", "internal/reach", "internal/reach/reachtest", "internal/speak/arp", "internal/survey"},
	// The bench has codecs of its own, but for what is ours at both ends.
	"internal/bench":           {"core/device", "core/secret", "internal/pace", "internal/wire", "internal/nic", "internal/speak/arp", "internal/speak/hail", "internal/speak/membership"},
	"internal/bench/benchtest": {"internal/bench", "internal/pace"},
	"internal/e2e/driver":      {},
	"internal/job":             {"core/", "internal/disk", "internal/intake", "internal/sheetfile", "internal/store", "internal/store/sqlite"},
	"internal/disk":            {},
	"internal/images":          {"core/commission", "core/firmware", "internal/disk", "internal/intake"},
	"internal/sheetfile":       {"core/sheet", "core/text", "internal/disk", "internal/intake", "core/setting", "core/settings"},
	"internal/guess":           {"internal/guess/"},
	"internal/keyring":         {"core/keys", "internal/disk", "internal/intake"},
	"internal/store":           {"core/"},
	"internal/store/sqlite":    {"core/", "internal/disk", "internal/store"},
	"internal/store/conform":   {"core/", "internal/store"},
	"internal/handover":        {"core/", "internal/intake"},
	"internal/schedule":        {"core/", "internal/intake"},
	"internal/views":           {},
	"internal/work":            {"core/", "internal/authority", "internal/disk", "internal/intake", "internal/job", "internal/keyring", "internal/lease", "internal/oui", "internal/reach", "internal/schedule", "internal/site", "internal/sheetfile", "internal/speak/", "internal/store", "internal/survey", "internal/tongue/standard", "internal/views", "internal/wire", "internal/handover", "internal/images"},
	"internal/cli":             {"core/", "internal/"},
	"internal/yardstick":       {"core/", "internal/job", "internal/reach", "internal/secure", "internal/speak/", "internal/wire"},
	"internal/manual":          {"internal/cli"},
	"cmd/janustat":             {"internal/cli"},
}

// impure are standard packages that core must not know: input, output, clocks
// of its own, and the like. time itself is needed for its types.
var impure = []string{"os", "net", "net/http", "os/exec", "syscall", "log", "database/sql", "math/rand", "math/rand/v2", "crypto/rand", "io/fs"}

func TestImportsPointInwards(t *testing.T) {
	seen := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		rel, err := filepath.Rel("..", filepath.Dir(path))
		if err != nil {
			return err
		}
		from := filepath.ToSlash(rel)
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		seen++
		for _, i := range f.Imports {
			to, err := strconv.Unquote(i.Path.Value)
			if err != nil {
				return err
			}
			check(t, path, from, to)
		}
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, seen, 50)
}

// A file is read in one sitting.
func TestNoFileIsTooLong(t *testing.T) {
	const most = 400 // lines
	seen := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") {
			return err
		}
		text, err := os.ReadFile(path)
		seen++
		assert.LessOrEqual(t, strings.Count(string(text), "\n"), most, path)
		return err
	})
	require.NoError(t, err)
	require.Greater(t, seen, 300)
}

// Core says what to do next by advice, never by a command's name.
func TestCoreNamesNoCommand(t *testing.T) {
	seen := 0
	err := filepath.WalkDir("../core", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(f, func(n ast.Node) bool {
			if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING {
				seen++
				assert.NotContains(t, strings.ReplaceAll(lit.Value, `"janustat/`, ""), "janustat ", path)
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, seen, 500)
}

func check(t *testing.T, path, from, to string) {
	if strings.HasPrefix(from, "core/") {
		// device uses net for its parser of MAC notations, which does no I/O.
		pureUse := from == "core/device" && to == "net"
		assert.False(t, slices.Contains(impure, to) && !pureUse, "%s imports %s: core has no I/O", path, to)
		assert.True(t, strings.HasPrefix(to, "janustat/core/") || !strings.Contains(strings.SplitN(to, "/", 2)[0], "."), "%s imports %s: core uses the standard library only", path, to)
	}
	own, ok := strings.CutPrefix(to, "janustat/")
	if !ok {
		return
	}
	var may []string
	for ring, list := range inside {
		if ring == from || strings.HasSuffix(ring, "/") && strings.HasPrefix(from, ring) {
			may = list
		}
	}
	allowed := slices.ContainsFunc(may, func(m string) bool { return m == own || strings.HasSuffix(m, "/") && strings.HasPrefix(own, m) })
	assert.True(t, allowed, "%s imports %s, which is not further in", path, own)
}

// known are the fields of a device that only events change: see device.Apply.
var known = []string{"Access", "Condition", "AsFound", "AsLeft", "Proved", "Allotted", "OpenedAt", "ResetAt", "ChangedAt", "Alarm"}

// others are what variables of other types with such fields are called here: findings,
// results, and what is printed.
var others = []string{"f", "r", "out", "e"}

// root gives the name of the variable that a selector starts from.
func root(x ast.Expr) string {
	switch x := x.(type) {
	case *ast.SelectorExpr:
		return root(x.X)
	case *ast.IndexExpr:
		return root(x.X)
	case *ast.Ident:
		return x.Name
	}
	return ""
}

// What is known of a device is written by the core's own package, and by the register
// when it reads a row.
func TestOnlyEventsChangeWhatIsKnownOfADevice(t *testing.T) {
	writer := map[string]bool{"core/device": true, "internal/store/sqlite": true}
	looked := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		if rel, err := filepath.Rel("..", filepath.Dir(path)); err != nil || writer[filepath.ToSlash(rel)] {
			return err
		}
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, path, nil, 0)
		if err != nil {
			return err
		}
		looked++
		ast.Inspect(f, func(n ast.Node) bool {
			if a, ok := n.(*ast.AssignStmt); ok {
				for _, left := range a.Lhs {
					if s, ok := left.(*ast.SelectorExpr); ok && slices.Contains(known, s.Sel.Name) && !slices.Contains(others, root(s)) {
						t.Errorf("%s writes %s: only device.Apply may", set.Position(a.Pos()), s.Sel.Name)
					}
				}
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, looked, 50)
}

// A witness is made by those who hold the conversation, and by nobody else: so nothing that
// was only heard can be passed off as proven.
func TestOnlyTonguesBearWitness(t *testing.T) {
	may := map[string]bool{"core/evidence": true, "internal/speak/hail": true, "internal/tongue/standard/session.go": true}
	looked := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		rel, err := filepath.Rel("..", path)
		if err != nil || may[filepath.ToSlash(rel)] || may[filepath.ToSlash(filepath.Dir(rel))] {
			return err
		}
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, path, nil, 0)
		if err != nil {
			return err
		}
		looked++
		ast.Inspect(f, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok && s.Sel.Name == "Of" && root(s.X) == "evidence" {
				t.Errorf("%s bears witness: only a tongue may", set.Position(s.Pos()))
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, looked, 50)
}
