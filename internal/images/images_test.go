package images

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/commission"
	"janustat/core/firmware"
)

func write(t *testing.T, path, text string) string {
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	return path
}

// What is added is copied and written down behind what is there, and what is there stays as it is.
func TestAnImageIsAdded(t *testing.T) {
	dir, from := t.TempDir(), t.TempDir()
	_, err := Read(dir)
	require.ErrorIs(t, err, ErrNone)
	_, err = Add(dir, write(t, filepath.Join(from, "a.bin"), "one"), firmware.Image{Make: "Tallow", Model: "Cube", Version: "1.10", From: []string{"1.*"}})
	require.NoError(t, err)
	path := filepath.Join(dir, File)
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	write(t, path, "# agreed in March\n"+string(data)+"# and in May:")
	_, err = Add(dir, write(t, filepath.Join(from, "b.bin"), "two"), firmware.Image{Model: "Eye", Version: "2"})
	require.NoError(t, err)
	data, err = os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(data), "# agreed in March\n")
	assert.Contains(t, string(data), "# and in May:\n")
	list, err := Read(dir)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, "1.10", list[0].Version, "and no number")
	img, err := Open(dir, &list[0])
	require.NoError(t, err)
	r, err := img.Open()
	require.NoError(t, err)
	defer r.Close()
	got, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.Equal(t, "one", string(got))

	for what, add := range map[string]func() error{
		"the same twice": func() error {
			_, err := Add(dir, filepath.Join(from, "b.bin"), firmware.Image{Model: "Eye", Version: "2"})
			return err
		},
		"another of that name": func() error {
			_, err := Add(dir, write(t, filepath.Join(t.TempDir(), "a.bin"), "other"), firmware.Image{Model: "Eye", Version: "3"})
			return err
		},
		"an empty one": func() error {
			_, err := Add(dir, write(t, filepath.Join(from, "c.bin"), ""), firmware.Image{Model: "Eye", Version: "3"})
			return err
		},
		"none": func() error {
			_, err := Add(dir, filepath.Join(from, "d.bin"), firmware.Image{Model: "Eye", Version: "3"})
			return err
		},
		"a folder": func() error { _, err := Add(dir, from, firmware.Image{Model: "Eye", Version: "3"}); return err },
	} {
		require.Error(t, add(), what)
		now, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, string(data), string(now), what)
	}
}

// Another file than was written down is refused before anything is sent; one that is changed while it is sent
// is never given away whole.
func TestAFileThatChanges(t *testing.T) {
	dir, from := t.TempDir(), t.TempDir()
	text := strings.Repeat("firmware", 10_000)
	_, err := Add(dir, write(t, filepath.Join(from, "a.bin"), text), firmware.Image{Model: "Cube", Version: "2"})
	require.NoError(t, err)
	list, err := Read(dir)
	require.NoError(t, err)
	ready, err := Open(dir, &list[0])
	require.NoError(t, err)
	here := filepath.Join(dir, Dir, "a.bin")
	for name, now := range map[string]string{"other": strings.ToUpper(text), "shorter": text[:1000], "longer": text + "x"} {
		write(t, here, now)
		r, err := ready.Open()
		require.NoError(t, err)
		got, err := io.ReadAll(r)
		r.Close()
		if name == "longer" { // what was read is what was agreed on
			require.NoError(t, err)
			assert.Equal(t, text, string(got))
		} else {
			var own *commission.ImageError
			require.ErrorAs(t, err, &own, name)
			assert.Less(t, len(got), len(text), name)
		}
		_, err = Open(dir, &list[0])
		require.ErrorIs(t, err, ErrList, name)
		assert.Contains(t, err.Error(), "has changed")
	}
}

func TestListsThatAreRefused(t *testing.T) {
	sum := strings.Repeat("ab", 32)
	for text, want := range map[string]string{
		"- {model: A, version: '1', file: ../a, sha256: " + sum + "}":        "must be in the job's folder",
		"- {model: A, version: '1', file: /etc/passwd, sha256: " + sum + "}": "must be in the job's folder",
		"- {model: A, version: '1', file: a, sha: " + sum + "}":              "sha",
		"- {model: A, file: a, sha256: " + sum + "}":                         "it has no version",
		"model: A": "",
	} {
		_, err := Parse([]byte(text))
		require.ErrorIs(t, err, ErrList, text)
		assert.Contains(t, err.Error(), want, text)
	}
	list, err := Parse([]byte("# nothing yet\n"))
	require.NoError(t, err)
	assert.Empty(t, list)
}

func FuzzParse(f *testing.F) {
	f.Add("- {model: A, version: '1', file: a, sha256: " + strings.Repeat("ab", 32) + ", from: ['1.*'], hardware: [B]}")
	f.Add("- &a {model: *a}")
	f.Fuzz(func(t *testing.T, text string) {
		list, err := Parse([]byte(text))
		if err != nil {
			return
		}
		for i := range list {
			assert.True(t, filepath.IsLocal(list[i].File))
			list.Of(firmware.Unit{Model: list[i].Model, Version: "1"})
		}
	})
}
