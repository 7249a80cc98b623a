package schedule

import (
	"archive/zip"
	"bytes"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"janustat/core/device"
)

func written(t *testing.T, name string, data []byte) string {
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, data, 0o600))
	return path
}

// What planners of four languages write is understood, in whatever encoding their spreadsheet
// saves it.
func TestListsOfOtherLanguagesAndEncodings(t *testing.T) {
	utf16 := func(s string) []byte {
		out, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().Bytes([]byte(s))
		require.NoError(t, err)
		return out
	}
	western := func(s string) []byte {
		out, err := charmap.Windows1252.NewEncoder().Bytes([]byte(s))
		require.NoError(t, err)
		return out
	}
	plain := func(s string) []byte { return []byte(s) }
	for name, x := range map[string]struct {
		text  string
		as    func(string) []byte
		name  string
		place string
	}{
		"English":                    {"Name,Location,MAC address,IP\nQuay,Hall,02:e4:42:00:01:01,10.61.8.60\n", plain, "Quay", "Hall"},
		"German, semicolons":         {"Bezeichnung;Montageort;MAC-Adresse;IP-Adresse\nKai;Saal;02:e4:42:00:01:01;10.61.8.60\n", plain, "Kai", "Saal"},
		"German, of the West":        {"Bezeichnung;Einbauort;MAC-Adresse;IP-Adresse\nTür;Gang;02:e4:42:00:01:01;10.61.8.60/23\n", western, "Tür", "Gang"},
		"French, UTF-16":             {"Désignation\tEmplacement\tAdresse MAC\tAdresse IP\nQuai\tPièce 3\t02:e4:42:00:01:01\t10.61.8.60\n", utf16, "Quai", "Pièce 3"},
		"Spanish":                    {"Denominación;Ubicación;Dirección MAC;Dirección IP\nMuelle;Sala;02:e4:42:00:01:01;10.61.8.60\n", plain, "Muelle", "Sala"},
		"with the separator named":   {"sep=;\nName;Ort;MAC;IP\nKai;Saal;02:e4:42:00:01:01;10.61.8.60\n", plain, "Kai", "Saal"},
		"with a mark of UTF-8":       {"\ufeffName;Ort;MAC;IP\nKai;Saal;02:e4:42:00:01:01;10.61.8.60\n", plain, "Kai", "Saal"},
		"our own register, in part":  {"tag,kind,name,place,make,model,serial,mac,firmware,address,mask,gateway,switch_port\nC01,camera,Quay,Hall,Verrine,Dome,A,02:e4:42:00:01:01,1,10.61.8.60,255.255.254.0,,4\n", plain, "Quay", "Hall"},
		"headings of a person's own": {"Wie es heißt;Wo;MAC;IP\nKai;Saal;02:e4:42:00:01:01;10.61.8.60\n", plain, "Kai", "Saal"},
	} {
		how := Reading{Means: map[string]Column{"wie es heißt": Name, "wo": Place}}
		l, err := Read(written(t, "list.csv", x.as(x.text)), how)
		require.NoError(t, err, name)
		require.Len(t, l.Rows, 1, name)
		r := l.Rows[0]
		assert.Equal(t, x.name, r.Fields[Name], name)
		assert.Equal(t, x.place, r.Fields[Place], name)
		assert.Equal(t, "02:e4:42:00:01:01", r.MAC.String(), name)
		assert.Equal(t, netip.MustParseAddr("10.61.8.60"), r.At, name)
		assert.Empty(t, l.Doubts, name)
	}
}

// Every sheet of a workbook that has headings is read, or the one that is named; merged cells are
// each of them, hidden rows are told, and dates are dates.
func TestWorkbooksAsPeopleMakeThem(t *testing.T) {
	f := excelize.NewFile()
	set := func(sheet, cell string, v any) { require.NoError(t, f.SetCellValue(sheet, cell, v)) }
	require.NoError(t, f.SetSheetName("Sheet1", "Cover"))
	set("Cover", "A1", "Quillmere")
	for _, s := range []string{"Hall", "Quay"} {
		_, err := f.NewSheet(s)
		require.NoError(t, err)
		for i, h := range []string{"Name", "Room", "MAC", "Installed"} {
			set(s, fmt.Sprintf("%c1", 'A'+i), h)
		}
	}
	for i := range 3 {
		set("Hall", fmt.Sprintf("A%d", i+2), fmt.Sprintf("Hall %d", i+1))
		set("Hall", fmt.Sprintf("C%d", i+2), fmt.Sprintf("02:e4:42:00:01:%02x", i+1))
	}
	set("Hall", "B2", "Ticket hall")
	require.NoError(t, f.MergeCell("Hall", "B2", "B4"))
	set("Hall", "D2", time.Date(2026, 11, 29, 0, 0, 0, 0, time.UTC))
	require.NoError(t, f.SetRowVisible("Hall", 3, false))
	set("Quay", "A2", "Quay 1")
	set("Quay", "C2", "02:e4:42:00:02:01")
	set("Quay", "A3", "Hall 1 again")
	set("Quay", "C3", "02:e4:42:00:01:01")
	var b bytes.Buffer
	require.NoError(t, f.Write(&b))
	path := written(t, "plan.xlsx", b.Bytes())
	l, err := Read(path, Reading{})
	require.NoError(t, err)
	require.Len(t, l.Rows, 4)
	for _, r := range l.Rows[:3] {
		assert.Equal(t, "Ticket hall", r.Fields[Place], r.Line)
		assert.Equal(t, "Hall", r.Sheet)
	}
	assert.Equal(t, "2026-11-29", l.Rows[0].Own["installed"])
	assert.Equal(t, []string{`sheet "Hall": 1 row is hidden, and read like the others`, `sheet "Quay": line 3: 02:e4:42:00:01:01 stands at sheet "Hall": line 2 already: left out`}, l.Doubts)
	l, err = Read(path, Reading{Sheet: "quay"})
	require.NoError(t, err)
	assert.Len(t, l.Rows, 2)
	_, err = Read(path, Reading{Sheet: "Quai"})
	assert.ErrorContains(t, err, `there is no sheet "Quai"`)
	assert.ErrorContains(t, err, "it has Cover, Hall, Quay")
}

func odsOf(t *testing.T, body string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.Create("content.xml")
	require.NoError(t, err)
	_, err = w.Write([]byte(`<?xml version="1.0"?><office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0"><office:body><office:spreadsheet>` + body + `</office:spreadsheet></office:body></office:document-content>`))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return b.Bytes()
}

func TestOpenDocumentSpreadsheets(t *testing.T) {
	body := `<table:table table:name="Kameras">
<table:table-row><table:table-cell><text:p>Bezeichnung</text:p></table:table-cell><table:table-cell><text:p>MAC</text:p></table:table-cell><table:table-cell><text:p>Datum</text:p></table:table-cell><table:table-cell table:number-columns-repeated="16381"/></table:table-row>
<table:table-row table:visibility="collapse"><table:table-cell><text:p>Kai</text:p><office:annotation><text:p>no value</text:p></office:annotation></table:table-cell><table:table-cell><text:p>02:e4:42:00:01:01</text:p></table:table-cell><table:table-cell office:value-type="date" office:date-value="2026-11-29T00:00:00"><text:p>29.11.26</text:p></table:table-cell></table:table-row>
<table:table-row table:number-rows-repeated="1048570"><table:table-cell table:number-columns-repeated="16384"/></table:table-row></table:table>`
	l, err := Read(written(t, "plan.ods", odsOf(t, body)), Reading{})
	require.NoError(t, err)
	require.Len(t, l.Rows, 1)
	assert.Equal(t, "Kai", l.Rows[0].Fields[Name])
	assert.Equal(t, "2026-11-29", l.Rows[0].Own["datum"])
	assert.Equal(t, []string{"1 row is hidden, and read like the others"}, l.Doubts)
	for _, bad := range [][]byte{[]byte("PK"), nil, odsOf(t, "<table:table"), odsOf(t, `<table:table table:name="x"><table:table-row table:number-rows-repeated="99"><table:table-cell table:number-columns-repeated="99"><text:p>x</text:p></table:table-cell></table:table-row></table:table>`)} {
		_, err := Read(written(t, "bad.ods", bad), Reading{})
		assert.Error(t, err)
	}
}

func FuzzOpenDocument(f *testing.F) {
	f.Add([]byte(`<table:table table:name="x"><table:table-row><table:table-cell><text:p>MAC</text:p></table:table-cell></table:table-row></table:table>`))
	f.Fuzz(func(t *testing.T, body []byte) {
		sheets, err := openDocument(odsOf(t, string(body)))
		if err != nil {
			return
		}
		for _, s := range sheets {
			assert.LessOrEqual(t, len(s.rows), maxRows)
		}
	})
}

// A row whose MAC and serial number are two devices is told, and decided by nobody.
func TestARowThatContradictsItselfIsTold(t *testing.T) {
	l, err := Parse([][]string{{"Tag", "Name", "MAC", "Serial"}, {"", "Quay", "02:e4:42:00:01:01", "A2"}, {"C03", "Hall", "02:e4:42:00:01:02", ""}, {"C03", "Desk", "", "A3"}})
	require.NoError(t, err)
	of := func(id int64, tag, serial string, last byte) device.Device {
		return device.Device{ID: id, Tag: tag, InJob: device.Taken, MAC: device.MAC{2, 0xe4, 0x42, 0, 1, last}, Facts: device.Facts{Serial: serial, Kind: device.Camera}}
	}
	m := Meet(l, []device.Device{of(1, "C01", "A1", 1), of(2, "C02", "A2", 2), of(3, "C03", "A3", 3)}, false)
	assert.Equal(t, []string{
		"line 2: its MAC is of C01, its serial number of C02: left out, correct the list",
	}, m.Doubts)
	require.Len(t, m.Matches, 2)
	assert.Equal(t, "C02", m.Matches[0].Device.Tag, "a tag may be the planner's own")
}
