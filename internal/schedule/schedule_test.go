package schedule

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"janustat/core/device"
)

func devices() []device.Device {
	of := func(id int64, tag, serial string, last byte, kind device.Kind) device.Device {
		return device.Device{ID: id, Tag: tag, InJob: device.Taken, MAC: device.MAC{0x02, 0xe4, 0x42, 0, 1, last}, Facts: device.Facts{Kind: kind, Serial: serial}}
	}
	return []device.Device{
		of(1, "C01", "A1", 1, device.Camera), of(2, "C02", "A2", 2, device.Camera), of(3, "C03", "A3", 3, device.Camera), of(4, "C04", "A4", 4, device.Camera),
		of(5, "C05", "A5", 5, device.Camera), of(6, "R01", "B1", 9, device.Recorder), of(7, "C06", "A6", 6, device.Camera),
	}
}

// messy is a planner's list as they are: a title over merged cells, blank lines, headings
// in any case, MACs in five spellings, a row twice.
func messy() [][]string {
	return [][]string{
		{"Quillmere Ferry Terminal, cameras", "", ""},
		nil,
		{"REF", "Camera Name", " LOCATION ", "Mac-Address", "S/N", "Rec. Channel", "Switch", "Port No.", "REMARKS", "Cable colour"},
		{"C-1", "Quay", "pole 3", "02:e4:42:00:01:01", "", "1", "SW1", "4", "", "blue"},
		{"C-2", "Ramp", "", "02-E4-42-00-01-02", "", "2", "SW1", "5", "=high", ""},
		nil,
		{"Ticket hall"},
		{"C-3", "Hall", "", "02e4.4200.0103", "", "3", "", "6", "", ""},
		{"C-4", "Desk", "", "02E442000104", "", "4", "", "", "", ""},
		{"C-5", "Mess", "", "02 e4 42 00 01 05", "", "5", "", "", "", ""},
		{"C-1", "Quay again", "", "02:E4:42:00:01:01", "", "", "", "", "", ""},
		{"R-1", "Plant room", "", "", "b1", "", "", "", "", ""},
		{"C-6", "Stair", "", "0106", "", "", "", "", "", ""},
		{"C-7", "Gone", "", "02:e4:42:ff:ff:ff", "", "", "", "", "", ""},
		{"C-8", "Wrong", "", "not known", "", "", "", "", "", ""},
	}
}

func TestAMessyListIsReadRight(t *testing.T) {
	l, err := Parse(messy())
	require.NoError(t, err)
	meant := map[string]Column{}
	for _, h := range l.Headings {
		meant[h.Text] = h.Means
	}
	assert.Equal(t, map[string]Column{"REF": Tag, "Camera Name": Name, "LOCATION": Place, "Mac-Address": MAC, "S/N": Serial, "Rec. Channel": Channel, "Switch": Switch, "Port No.": Port, "REMARKS": Remark, "Cable colour": ""}, meant)
	require.Len(t, l.Rows, 9)
	assert.Equal(t, 4, l.Rows[0].Line)
	assert.Equal(t, map[string]string{"cable colour": "blue"}, l.Rows[0].Own)
	assert.Equal(t, []string{`line 15: "not known" is not a MAC`, "line 11: 02:e4:42:00:01:01 stands at line 4 already: left out"}, l.Doubts)

	m := Meet(l, devices(), false)
	got := map[string]string{}
	for _, x := range m.Matches {
		got[x.Device.Tag] = x.Row.Fields[Name] + " by " + x.By
	}
	assert.Equal(t, map[string]string{
		"C01": "Quay by MAC", "C02": "Ramp by MAC", "C03": "Hall by MAC", "C04": "Desk by MAC", "C05": "Mess by MAC", "R01": "Plant room by serial number", "C06": "Stair by end of the MAC",
	}, got)
	assert.Len(t, m.Rows, 2)
	assert.Empty(t, m.Devices)
}

func TestWhatIsLeftIsMatchedInOrderWhereThatIsAskedFor(t *testing.T) {
	l, err := Parse([][]string{{"Serial", "Type", "Name"}, {"A2", "camera", "second"}, {"", "Dome camera", "first"}, {"", "recorder", "rec"}, {"", "coffee machine", "none"}})
	require.NoError(t, err)
	m := Meet(l, devices(), true)
	require.Len(t, m.Matches, 3)
	assert.Equal(t, "C01", m.Matches[1].Device.Tag)
	assert.Equal(t, "order", m.Matches[1].By)
	assert.Equal(t, "R01", m.Matches[2].Device.Tag)
	assert.Len(t, m.Rows, 1)
	assert.Len(t, m.Devices, 4)
}

func TestFilesOfEitherForm(t *testing.T) {
	dir := t.TempDir()
	f := excelize.NewFile()
	for y, row := range messy() {
		for x, v := range row {
			at, err := excelize.CoordinatesToCellName(x+1, y+1)
			require.NoError(t, err)
			require.NoError(t, f.SetCellStr("Sheet1", at, v))
		}
	}
	require.NoError(t, f.MergeCell("Sheet1", "A1", "C1"))
	book := filepath.Join(dir, "plan.xlsx")
	require.NoError(t, f.SaveAs(book))
	l, err := Read(book, Reading{})
	require.NoError(t, err)
	assert.Len(t, l.Rows, 9)
	assert.Equal(t, 4, l.Rows[0].Line)

	for name, text := range map[string]string{
		"a.csv": "\xef\xbb\xbfMAC;Name;Ort\n02:e4:42:00:01:01;Kai;Halle\n", "b.csv": "MAC,Name\n02:e4:42:00:01:01,K\xe4i\n", "c.tsv": "\n\nmac\tname\n02:e4:42:00:01:01\t\"Kai, 2\"\n",
	} {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		l, err := Read(path, Reading{})
		require.NoError(t, err, name)
		require.Len(t, l.Rows, 1, name)
		assert.Contains(t, l.Rows[0].Fields[Name], "K", name)
	}
	for name, text := range map[string]string{"x.pdf": "", "none.csv": "a,b\n1,2\n", "broken.xlsx": "PK"} {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		_, err := Read(path, Reading{})
		require.Error(t, err, name)
	}
}

func FuzzSeparated(f *testing.F) {
	f.Add([]byte("MAC;Name\n02:e4:42:00:01:01;Quay\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		rows, err := separated(data)
		if err != nil || bytes.Count(data, []byte("\n")) > maxRows {
			return
		}
		if l, err := Parse(rows); err == nil {
			Meet(l, devices(), true)
		}
	})
}
