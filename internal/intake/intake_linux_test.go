package intake

import (
	"archive/zip"
	"bytes"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// What is no file of a bounded size is refused at once, and said so.
func TestOnlyRegularFilesAreLetIn(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, syscall.Mkfifo(at("pipe"), 0o600))
	require.NoError(t, os.Symlink("/dev/zero", at("endless")))
	require.NoError(t, os.WriteFile(at("long"), make([]byte, 2000), 0o600))
	require.NoError(t, os.WriteFile(at("good"), []byte("fine"), 0o600))
	require.NoError(t, os.Symlink(at("good"), at("link")))
	for _, name := range []string{"pipe", "endless", "long", "."} {
		_, err := Read(at(name), 1000)
		require.ErrorIs(t, err, ErrRefused, name)
		assert.Contains(t, err.Error(), filepath.Clean(at(name)))
	}
	for _, name := range []string{"good", "link"} {
		data, err := Read(at(name), 1000)
		require.NoError(t, err)
		assert.Equal(t, "fine", string(data))
	}
	_, err := Read(at("none"), 1000)
	require.ErrorIs(t, err, os.ErrNotExist)
}

func workbook(t *testing.T, change func(f *excelize.File)) []byte {
	f := excelize.NewFile()
	defer f.Close()
	change(f)
	var b bytes.Buffer
	require.NoError(t, f.Write(&b))
	return b.Bytes()
}

// Workbooks that are small on disk and large in memory are refused before they are.
func TestWorkbooksHaveBounds(t *testing.T) {
	cell := func(ref string) func(*excelize.File) {
		return func(f *excelize.File) { require.NoError(t, f.SetCellValue("Sheet1", ref, "x")) }
	}
	for name, c := range map[string]struct {
		data []byte
		says string
	}{
		"a far row":     {workbook(t, cell("A1048576")), "more than 20000 rows"},
		"a far column":  {workbook(t, cell("XFD1")), "more than 256 columns"},
		"no workbook":   {[]byte("PK\x03\x04 nothing"), "it is not a workbook"},
		"a packed part": {bomb(t), ""},
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		w, err := OpenWorkbook(c.data)
		if err == nil {
			_, err = w.Rows("Sheet1", true)
			w.Close()
		}
		runtime.ReadMemStats(&after)
		require.ErrorIs(t, err, ErrRefused, name)
		assert.ErrorContains(t, err, c.says, name)
		assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(400<<20), name)
	}
	w, err := OpenWorkbook(workbook(t, cell("C3")))
	require.NoError(t, err)
	defer w.Close()
	rows, err := w.Rows("Sheet1", true)
	require.NoError(t, err)
	assert.Equal(t, [][]string{nil, nil, {"", "", "x"}}, rows)
	rows, err = w.Rows("none", true)
	require.NoError(t, err)
	assert.Empty(t, rows)
}

// bomb is a workbook of 100 kB with a part of a hundred megabytes.
func bomb(t *testing.T) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	r, err := zip.NewReader(bytes.NewReader(workbook(t, func(*excelize.File) {})), int64(len(workbook(t, func(*excelize.File) {}))))
	require.NoError(t, err)
	for _, part := range r.File {
		if !strings.HasSuffix(part.Name, "sheet1.xml") {
			require.NoError(t, z.Copy(part))
		}
	}
	w, err := z.Create("xl/worksheets/sheet1.xml")
	require.NoError(t, err)
	_, err = w.Write([]byte(`<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData><row r="1"><c r="A1" t="str"><v>`))
	require.NoError(t, err)
	for range 100 {
		_, err = w.Write(bytes.Repeat([]byte("x"), 1<<20))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	require.Less(t, b.Len(), 300<<10)
	return b.Bytes()
}
