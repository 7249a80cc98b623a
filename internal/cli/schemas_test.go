package cli

import (
	"bytes"
	"encoding/json"
	"net/netip"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	invopop "github.com/invopop/jsonschema"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
)

// schemaVersion grows when a document gets a field; fields never change or go.
const schemaVersion = "1"

// documents are what each command writes with --json. Those that are not here write what
// done tells, or have a reason.
var documents = map[string]any{
	"done": doneJSON{}, "status": standing{}, "begin": begunJSON{}, "survey": surveyJSON{}, "list": []listJSON{}, "show": showJSON{}, "log": []chapter{},
	"take": []deviceJSON{}, "leave": []deviceJSON{}, "allot": allotJSON{}, "commission": commissionJSON{}, "dry-run": []dryRow{}, "prove": proveJSON{},
	"handover": handoverJSON{}, "channels": []channelJSON{}, "note": noteJSON{}, "compare": compareJSON{}, "schedule": scheduleJSON{}, "views": viewsJSON{}, "backup": []backupJSON{}, "firmware": []firmwareJSON{},
	"lease": []leaseJSON{}, "web": []webLink{}, "wire": wireJSON{}, "key-list": []keyJSON{}, "event": lineJSON{}, "watch-event": eventJSON{},
}

// says are those that write what done tells, and which document others write; "" is none,
// since they talk with a person or are no command of a job.
var says = map[string]string{
	"begin": "begin", "survey": "survey", "list": "list", "show": "show", "log": "log", "take": "take", "leave": "leave", "allot": "allot", "commission": "commission",
	"prove": "prove", "handover": "handover", "channels": "channels", "note": "note", "compare": "compare", "schedule": "schedule", "views": "views", "backup": "backup", "backup open": "done", "firmware": "firmware", "firmware add": "done", "key recover": "done", "lease": "lease",
	"web": "web", "wire": "wire", "key list": "key-list", "restore": "commission", "key change": "commission",
	"name": "done", "retag": "done", "swap": "done", "forget": "done", "undo": "done", "restart": "done", "reset": "done", "putback": "done", "wink": "done",
	"key set": "done", "key generate": "done", "key add": "done", "key try": "done", "key again": "done", "key share": "done", "key passphrase": "done", "key lock": "done",
	"key show": "", "key": "", "go": "", "ladder": "", "demo": "", "bench": "", "bench image": "done", "help": "", "completion": "",
}

func schemaOf(t *testing.T, name string, of any) []byte {
	r := &invopop.Reflector{
		Anonymous: true, ExpandedStruct: false, AllowAdditionalProperties: true,
		Mapper: func(x reflect.Type) *invopop.Schema {
			switch x {
			case reflect.TypeFor[netip.Addr]():
				return &invopop.Schema{Type: "string", Description: "an IP address; empty is none"}
			case reflect.TypeFor[netip.Prefix]():
				return &invopop.Schema{Type: "string", Description: "a subnet, as 10.61.8.0/23"}
			case reflect.TypeFor[device.MAC]():
				return &invopop.Schema{Type: "string", Pattern: "^([0-9a-f]{2}(:[0-9a-f]{2}){5})?$"}
			case reflect.TypeFor[time.Time]():
				return &invopop.Schema{Type: "string", Format: "date-time"}
			case reflect.TypeFor[time.Duration]():
				return &invopop.Schema{Type: "integer", Description: "nanoseconds"}
			case reflect.TypeFor[json.RawMessage]():
				return &invopop.Schema{}
			}
			return nil
		},
	}
	s := r.Reflect(of)
	s.ID = invopop.ID("urn:janustat:" + name + ":" + schemaVersion)
	s.Title = "janustat " + name + " --json"
	out, err := json.MarshalIndent(s, "", "  ")
	require.NoError(t, err)
	return append(out, '\n')
}

const schemaDir = "../../docs/schemas"

// The published schemas are those of what is written. UPDATE_SCHEMAS=1 writes them anew.
func TestSchemasArePublished(t *testing.T) {
	var names []string
	for name, of := range documents {
		names = append(names, name+".schema.json")
		path := filepath.Join(schemaDir, name+".schema.json")
		want := schemaOf(t, name, of)
		if os.Getenv("UPDATE_SCHEMAS") != "" {
			require.NoError(t, os.WriteFile(path, want, 0o644))
		}
		have, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, string(want), string(have), "%s: UPDATE_SCHEMAS=1 go test ./internal/cli -run TestSchemas", name)
	}
	files, err := os.ReadDir(schemaDir)
	require.NoError(t, err)
	assert.Len(t, files, len(names), "no schema is left over")
}

// Every command has a document, or a reason to have none.
func TestEveryCommandHasADocument(t *testing.T) {
	app := &App{}
	var each func(c *cobra.Command)
	each = func(c *cobra.Command) {
		name := strings.TrimPrefix(c.CommandPath(), "janustat ")
		if c.Parent() != nil && !strings.HasPrefix(name, "completion") {
			doc, known := says[name]
			assert.True(t, known, name)
			assert.True(t, doc == "" || documents[doc] != nil, "%s: %s", name, doc)
		}
		for _, sub := range c.Commands() {
			each(sub)
		}
	}
	each(app.Root())
}

// fits requires that what a command wrote fits its published schema, and has no null where
// a list is.
func fits(t testing.TB, name string, document []byte) {
	t.Helper()
	c := jsonschema.NewCompiler()
	s, err := c.Compile(filepath.Join(schemaDir, name+".schema.json"))
	require.NoError(t, err, name)
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(document))
	require.NoError(t, err, "%s\n%s", name, document)
	assert.NoError(t, s.Validate(v), "%s\n%s", name, document)
}

// What commands write through a whole job fits what is published; with --json=lines each line
// does, and the last tells the exit code.
func TestDocumentsFitTheirSchemas(t *testing.T) {
	t.Parallel()
	c := hire(t, joined, "--subnet", "10.61.8.0/23")
	run := func(want int, doc string, args ...string) string {
		t.Helper()
		code, out, errs := c.run("", append(args, "--json")...)
		require.Equal(t, want, code, "%v\n%s\n%s", args, out, errs)
		fits(t, doc, []byte(out))
		return out
	}
	run(ExitDone, "status")
	run(ExitDone, "list", "list")
	run(ExitNeeds, "list", "list", "kind=panel")
	run(ExitDone, "survey", "survey", "--for", "3s")
	run(ExitDone, "wire", "wire")
	run(ExitNeeds, "take", "take", "make=Nobody")
	run(ExitDone, "take", "take", "all", "--yes")
	run(ExitDone, "leave", "leave", "C04", "--yes")
	run(ExitDone, "done", "undo", "--yes")
	c.sheet(joinedSheet)
	run(ExitDone, "allot", "allot")
	run(ExitDone, "show", "show", "C01")
	run(ExitDone, "dry-run", "commission", "--dry-run")
	run(ExitDone, "commission", "commission", "--yes", "C01", "R01")
	code, out, errs := c.run("", "commission", "--yes", "--json=lines")
	require.Equal(t, ExitDone, code, errs)
	events := map[string]int{}
	var last lineJSON
	for line := range strings.Lines(out) {
		fits(t, "event", []byte(line))
		last = lineJSON{}
		require.NoError(t, json.Unmarshal([]byte(line), &last))
		events[last.Event]++
		if last.Event == "document" {
			fits(t, "commission", last.Document)
		}
	}
	assert.Equal(t, "end", last.Event)
	require.NotNil(t, last.Exit)
	assert.Equal(t, 0, *last.Exit)
	assert.Equal(t, 9, events["result"])
	assert.Equal(t, 1, events["document"])
	assert.Greater(t, events["step"], 9)
	run(ExitDone, "prove", "prove")
	run(ExitDone, "log", "log", "C01")
	run(ExitDone, "channels", "channels")
	run(ExitDone, "views", "views")
	run(ExitDone, "backup", "backup")
	run(ExitDone, "firmware", "firmware")
	run(ExitDone, "note", "note", "C01", "place=east")
	run(ExitDone, "note", "note", "C02")
	run(ExitDone, "done", "name", "C01", "Quay east")
	run(ExitDone, "handover", "handover")
	run(ExitDone, "compare", "compare", filepath.Join(c.dir, "handover"), c.dir)
	run(ExitDone, "key-list", "key", "list")
	run(ExitDone, "done", "restart", "C01", "--yes")
	run(ExitNeeds, "done", "wink", "C02")
	run(ExitDone, "lease", "lease", "--for", "1s", "--yes")
	run(ExitDone, "status")
	code, out, _ = c.run("", "list", "nosuch", "--json=lines")
	assert.Equal(t, ExitUsage, code)
	assert.Contains(t, out, `"event":"end"`)
	assert.Contains(t, out, "no such device")
}
