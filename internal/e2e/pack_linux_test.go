package e2e

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/e2e/driver"
)

// validate is a validator of JSON Schema that others have made.
const validate = `
import json, sys
import jsonschema
schema, doc = (json.load(open(p)) for p in sys.argv[1:])
jsonschema.Draft202012Validator(schema, format_checker=jsonschema.FormatChecker()).validate(doc)
`

// What others have made reads the pack of the demo: the PDFs are sound, the labels' codes
// lead to the devices, the record fits its schema.
func TestThePackIsReadByOthers(t *testing.T) {
	t.Parallel()
	needPrograms(t, "qpdf", "zbarimg", "pdftoppm", "python3", "ssh-keygen")
	program := driver.Built(t)
	dir := filepath.Join(t.TempDir(), "demo")
	out, err := exec.Command(program, "demo", dir, "--quiet").CombinedOutput()
	require.NoError(t, err, "%s", out)
	pack := filepath.Join(dir, "handover")
	for _, pdf := range []string{"handover.pdf", "labels.pdf"} {
		out, err := exec.Command("qpdf", "--check", filepath.Join(pack, pdf)).CombinedOutput()
		assert.NoError(t, err, "%s: %s", pdf, out)
	}
	pages := filepath.Join(t.TempDir(), "label")
	out, err = exec.Command("pdftoppm", "-r", "300", "-gray", "-png", filepath.Join(pack, "labels.pdf"), pages).CombinedOutput()
	require.NoError(t, err, "%s", out)
	images, err := filepath.Glob(pages + "*.png")
	require.NoError(t, err)
	codes, err := exec.Command("zbarimg", append([]string{"--quiet", "--raw"}, images...)...).Output()
	require.NoError(t, err)
	assert.Equal(t, 33, strings.Count(string(codes), "http://10.61.8."), "%s", codes)
	assert.Contains(t, string(codes), "http://10.61.8.42/\n")
	schema, err := filepath.Abs("../../docs/register.schema.json")
	require.NoError(t, err)
	script := filepath.Join(t.TempDir(), "validate.py")
	require.NoError(t, os.WriteFile(script, []byte(validate), 0o600))
	out, err = exec.Command("python3", script, schema, filepath.Join(pack, "register.json")).CombinedOutput()
	assert.NoError(t, err, "%s", out)

	// A signature with the installer's own key is one that ssh-keygen knows, and no other's.
	for _, kind := range []string{"ed25519", "rsa"} {
		key := filepath.Join(t.TempDir(), "key")
		out, err = exec.Command("ssh-keygen", "-q", "-t", kind, "-N", "", "-f", key).CombinedOutput()
		require.NoError(t, err, "%s", out)
		out, err = exec.Command(program, "handover", "--job", dir, "--sign", key).CombinedOutput()
		require.NoError(t, err, "%s", out)
		manifest, err := os.ReadFile(filepath.Join(pack, "manifest.json"))
		require.NoError(t, err)
		proves := func(what []byte) error {
			c := exec.Command("ssh-keygen", "-Y", "check-novalidate", "-n", "janustat-handover", "-s", filepath.Join(pack, "manifest.json.sig"))
			c.Stdin = bytes.NewReader(what)
			return c.Run()
		}
		assert.NoError(t, proves(manifest), kind)
		assert.Error(t, proves(append(manifest, ' ')), kind)
	}
}
