package handover

import (
	"bytes"
	"html"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"janustat/core/device"
)

// What was written is read back: all of it from JSON, the devices from the others; and a
// record that is the same has no differences.
func TestARecordIsReadBack(t *testing.T) {
	r := record(1)
	docs, err := r.Pack(options)
	require.NoError(t, err)
	dir := t.TempDir()
	for _, d := range docs {
		require.NoError(t, os.WriteFile(filepath.Join(dir, d.Name), d.Data, 0o600))
	}
	for _, name := range []string{"", "register.json", "register.csv", "register.xlsx"} {
		got, err := Read(filepath.Join(dir, name))
		require.NoError(t, err, name)
		require.Len(t, got.Devices, 3, name)
		at := slices.IndexFunc(got.Devices, func(e Entry) bool { return e.Tag == "C01" })
		e := got.Devices[at]
		assert.Equal(t, "=HYPERLINK(\"x\")", e.Name, name)
		assert.Equal(t, "@blue", e.Own["cable"], name)
		assert.Equal(t, "Hall", e.Place, name)
		d := e.Device(made, nil)
		assert.Equal(t, netip.MustParseAddr("10.61.8.42"), d.Allotted.Address, name)
		assert.Equal(t, 23, d.Allotted.Prefix, name)
		assert.Equal(t, device.Sealed, d.Access, name)
		assert.Empty(t, Compare(r, got), name)
		assert.Empty(t, Compare(got, r), name)
	}
	for name, text := range map[string]string{"x.json": "{}", "y.csv": "a,b\n", "z.txt": "x", "w.xlsx": "PK"} {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		_, err := Read(path)
		require.ErrorIs(t, err, ErrNoRecord, name)
	}
}

func TestCompare(t *testing.T) {
	of := func(tag string, last byte, name string) Entry {
		return Entry{Tag: tag, MAC: device.MAC{2, 0, 0, 0, 0, last}, Name: name}
	}
	hall, moved := of("C05", 5, "Hall"), of("C06", 5, "Hall")
	hall.Own, moved.Own = map[string]string{"cable": "blue", "lens": "4 mm"}, map[string]string{"cable": "red", "lens": "4 mm"}
	a := Record{Devices: []Entry{of("C01", 1, "Quay"), of("C02", 2, "Ramp"), of("C03", 3, "Gone"), hall}}
	b := Record{Devices: []Entry{of("C01", 1, "Quay east"), of("C02", 9, "Ramp"), of("C04", 4, "New"), moved}}
	assert.Equal(t, []Difference{
		{"C01", "name", "Quay", "Quay east"},
		{"C02", "replaced", "02:00:00:00:00:02", "02:00:00:00:00:09"},
		{Tag: "C04", What: "new", To: "02:00:00:00:00:04"},
		{"C06", "tag", "C05", "C06"},
		{"C06", "cable", "blue", "red"},
		{Tag: "C03", What: "gone", From: "02:00:00:00:00:03"},
	}, Compare(a, b))
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("tag,mac,address,mask\nC01,02:00:00:00:00:01,10.0.0.1,255.0.0.0\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if r, err := fromCSV(data); err == nil {
			for _, e := range r.Devices {
				e.Device(made, nil)
			}
		}
	})
}

// full is a record with something in everything that it can hold.
func full() Record {
	r := record(1)
	proof := made
	e := &r.Devices[2]
	e.Place, e.Port, e.Firmware, e.Zone, e.DNS, e.NTP = "Hall", "4", "1.0", "GMT0", "10.61.8.3", "10.61.8.4"
	e.Accounts, e.Certificate, e.Ports, e.Services, e.Weak, e.Joined, e.Stream = []string{"admin as administrator"}, "aa", []uint16{80}, []string{"web"}, []string{"TLS 1.0"}, []string{"R01 channel 1: connected"}, "H264 1920×1080"
	e.Checks, e.Checked = []Checked{{Check: "answers", Result: "passed"}, {Check: "clock", Result: "failed"}}, &proof
	r.Channels = []Channel{{"R01", 1, "C01", "x", "10.61.8.42", "connected"}}
	r.Ground.DNS, r.Ground.NTP = addresses("10.61.8.3"), addresses("10.61.8.4")
	r.Plan = Plan{Pairs: []PlannedPair{{"D01", "I01", 2, "201"}}, Server: "10.61.8.6:7700", KeepClear: []string{"10.61.8.5"}, Pools: []string{"10.61.9.100-10.61.9.199"}, Blocks: map[string]string{"camera": "10.61.8.41-10.61.8.60"}, Users: []PlannedUser{{"guard", "user", []string{"camera"}}}, Zone: "GMT0"}
	return r
}

// compare finds each change that a record can hold, from every form, and nothing beside it.
func TestCompareFindsEveryChange(t *testing.T) {
	entry := func(change func(e *Entry)) func(r *Record) {
		return func(r *Record) { change(&r.Devices[2]) }
	}
	site := map[string]bool{}
	changes := map[string]func(r *Record){
		"kind": entry(func(e *Entry) { e.Kind = device.Panel }), "name": entry(func(e *Entry) { e.Name = "Quay" }), "place": entry(func(e *Entry) { e.Place = "Stair" }),
		"maker": entry(func(e *Entry) { e.Make = "Oakhollow" }), "model": entry(func(e *Entry) { e.Model = "Eye" }), "serial": entry(func(e *Entry) { e.Serial = "Z" }), "replaced": entry(func(e *Entry) { e.MAC[5] = 99 }),
		"firmware": entry(func(e *Entry) { e.Firmware = "2.0" }), "address": entry(func(e *Entry) { e.Address = "10.61.8.43" }), "mask": entry(func(e *Entry) { e.Mask = "255.255.0.0" }), "gateway": entry(func(e *Entry) { e.Gateway = "10.61.8.9" }),
		"switch port": entry(func(e *Entry) { e.Port = "9" }), "joined": entry(func(e *Entry) { e.Joined = nil }), "stream": entry(func(e *Entry) { e.Stream = "H265" }), "access": entry(func(e *Entry) { e.Access = device.Sealed }),
		"password set": entry(func(e *Entry) { e.InClear = false }), "password held by": entry(func(e *Entry) { e.Custody = "nobody known" }), "weak encryption": entry(func(e *Entry) { e.Weak = nil }), "found at": entry(func(e *Entry) { e.AsFound = nil }),
		"proved": entry(func(e *Entry) { e.Proved = nil }), "addressing": entry(func(e *Entry) { e.Addressing = "leased, by a reservation" }), "dns": entry(func(e *Entry) { e.DNS = "10.61.8.9" }), "ntp": entry(func(e *Entry) { e.NTP = "" }),
		"time zone": entry(func(e *Entry) { e.Zone = "CET-1" }), "accounts": entry(func(e *Entry) { e.Accounts = append(e.Accounts, "guard as user") }), "certificate (sha-256)": entry(func(e *Entry) { e.Certificate = "bb" }), "open ports": entry(func(e *Entry) { e.Ports = []uint16{80, 554} }),
		"services": entry(func(e *Entry) { e.Services = nil }), "checks": entry(func(e *Entry) { e.Checks[1].Result = "passed" }), "remark": entry(func(e *Entry) { e.Remark = "low" }), "left out": entry(func(e *Entry) { e.LeftOut = true }),
		"cable": entry(func(e *Entry) { e.Own = map[string]string{"cable": "red"} }), "gone": func(r *Record) { r.Devices = r.Devices[:2] },
		"site: subnet": func(r *Record) { r.Ground.Subnet = netip.MustParsePrefix("10.61.0.0/16") }, "site: gateway": func(r *Record) { r.Ground.Gateway = netip.MustParseAddr("10.61.8.9") }, "site: dns": func(r *Record) { r.Ground.DNS = nil }, "site: ntp": func(r *Record) { r.Ground.NTP = nil },
		"site: time zone": func(r *Record) { r.Plan.Zone = "" }, "site: kept clear": func(r *Record) { r.Plan.KeepClear = nil }, "site: dhcp pools": func(r *Record) { r.Plan.Pools = nil }, "site: blocks": func(r *Record) { r.Plan.Blocks = nil },
		"site: pairs": func(r *Record) { r.Plan.Pairs[0].Flat = "202" }, "site: server": func(r *Record) { r.Plan.Server = "" }, "site: users": func(r *Record) { r.Plan.Users[0].Role = "operator" }, "channel 1": func(r *Record) { r.Channels[0].Camera = "C91" },
	}
	for what := range changes {
		site[what] = strings.HasPrefix(what, "site: ") || what == "channel 1"
	}
	read := func(r Record, form string) Record {
		var data []byte
		var err error
		switch form {
		case "register.csv":
			data, err = r.CSV()
		case "register.xlsx":
			data, err = r.XLSX()
		default:
			data, err = r.JSON()
		}
		require.NoError(t, err)
		path := filepath.Join(t.TempDir(), form)
		require.NoError(t, os.WriteFile(path, data, 0o600))
		out, err := Read(path)
		require.NoError(t, err)
		return out
	}
	forms := []string{"register.json", "register.csv", "register.xlsx"}
	for _, before := range forms {
		was := read(full(), before)
		for _, after := range forms {
			assert.Empty(t, Compare(was, read(full(), after)), "%s and %s tell the same", before, after)
		}
	}
	for what, change := range changes {
		changed := full()
		change(&changed)
		for _, form := range forms {
			got := Compare(read(full(), form), read(changed, form))
			switch {
			case form == "register.csv" && site[what]:
				assert.Empty(t, got, "%s: a table of devices knows nothing of that", what)
			case assert.Len(t, got, 1, "%s by %s", what, form):
				assert.Equal(t, what, got[0].What, form)
			}
		}
	}
	assert.GreaterOrEqual(t, len(changes), 29)
	old := []byte(`{"site": "x", "devices": [{"tag": "C01", "kind": "camera", "name": "Quay", "mac": "02:00:00:00:00:01", "address": "10.61.8.42", "mask": "255.255.254.0"}], "ground": {"subnet": "10.61.8.0/23"}}`)
	path := filepath.Join(t.TempDir(), "register.json")
	require.NoError(t, os.WriteFile(path, old, 0o600))
	earlier, err := Read(path)
	require.NoError(t, err)
	later := earlier
	later.Devices = slices.Clone(earlier.Devices)
	later.knows, later.site = nil, nil
	later.Devices[0].DNS, later.Devices[0].Accounts, later.Plan.Zone = "10.61.8.1", []string{"admin"}, "GMT0"
	assert.Empty(t, Compare(earlier, later), "what an older record did not hold is no change")
}

// One table of facts feeds every form: what is in it is in each.
func TestEveryFactIsInEveryForm(t *testing.T) {
	at := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	found, left := netip.MustParseAddr("192.168.44.9"), netip.MustParseAddr("10.61.8.42")
	d := device.Device{
		ID: 7, Tag: "C01", InJob: device.Taken, MAC: device.MAC{2, 0xe4, 0x42, 0, 1, 9}, Proved: at, OpenedAt: at,
		Facts: device.Facts{
			Kind: device.Camera, Make: "Make0", Model: "Model0", Name: "Name0", Serial: "Serial0", Firmware: "Firmware0", Access: device.Keyed, Ports: []uint16{8501}, Offers: []string{"Service0"},
			TLS: &device.TLS{Port: 443, Fingerprint: "feedbeef00", Weak: []string{"Weak0"}}, Stream: &device.Stream{Codec: "Codec0"},
		},
		AsFound: &device.Settings{Address: found, Prefix: 24},
		AsLeft:  &device.Settings{Address: left, Prefix: 23, Gateway: netip.MustParseAddr("10.61.8.77"), DNS: []netip.Addr{netip.MustParseAddr("10.61.8.78")}, NTP: []netip.Addr{netip.MustParseAddr("10.61.8.79")}, Zone: "ZON7"},
	}
	r := New(Material{
		Site: "Site0", InClear: map[int64]bool{7: true}, Notes: map[int64]map[string]string{7: {"place": "Place0", "port": "Switch0", "remark": "Remark0", "ladder": "Own0"}},
		Accounts: map[int64][]string{7: {"Account0 as user"}}, Proofs: map[int64]Proof{7: {at, []Checked{{"Check0", "untested", "Expected0", "Found0"}}}},
	}, []device.Device{d})
	r.Devices[0].Joined = []string{"Joined0"}
	csv, err := r.CSV()
	require.NoError(t, err)
	doc, err := r.JSON()
	require.NoError(t, err)
	page, err := r.HTML(Options{})
	require.NoError(t, err)
	book, err := r.XLSX()
	require.NoError(t, err)
	f, err := excelize.OpenReader(bytes.NewReader(book))
	require.NoError(t, err)
	var cells []string
	for _, sheet := range f.GetSheetList() {
		rows, err := f.GetRows(sheet)
		require.NoError(t, err)
		for _, row := range rows {
			cells = append(cells, row...)
		}
	}
	forms := map[string]string{"csv": string(csv), "json": string(doc), "html": string(page), "xlsx": strings.Join(cells, "\n")}
	if tool, err := exec.LookPath("pdftotext"); err == nil || os.Getenv("CI") != "" {
		pdf, err := r.PDF(options)
		require.NoError(t, err)
		c := exec.CommandContext(t.Context(), tool, "-raw", "-", "-")
		c.Stdin = bytes.NewReader(pdf)
		text, err := c.Output()
		require.NoError(t, err)
		forms["pdf"] = strings.Join(strings.Fields(string(text)), " ")
	}
	for _, value := range []string{
		"C01", "02:e4:42:00:01:09", "Make0", "Model0", "Name0", "Serial0", "Firmware0", "8501", "Service0", "feedbeef00", "Weak0", "Codec0", "192.168.44.9", "10.61.8.42", "10.61.8.77", "10.61.8.78",
		"10.61.8.79", "ZON7", "Place0", "Switch0", "Remark0", "Own0", "Account0 as user", "Check0", "untested", "Joined0", "static", "2026-11-29", "without encryption", "on the job's keyring", "255.255.254.0",
	} {
		for form, text := range forms {
			if form == "json" && value == "without encryption" {
				value = `"password_set_without_encryption": true`
			}
			if form == "html" {
				text = html.UnescapeString(text)
			}
			assert.Contains(t, text, value, form)
			if form == "json" && strings.HasPrefix(value, `"password_set`) {
				value = "without encryption"
			}
		}
	}
	for form, text := range forms {
		if form != "csv" {
			assert.Contains(t, text, "Expected0", form)
		}
	}
}

// A planner's own list is compared in what it says, and in nothing else.
func TestAListOfOnesOwnIsCompared(t *testing.T) {
	at := func(n byte) device.MAC { return device.MAC{2, 0, 0, 0, 0, n} }
	r := Record{Site: "Quay", Devices: []Entry{
		{Tag: "C01", Kind: device.Camera, Name: "Dock", Serial: "A1", MAC: at(1), Address: "10.0.0.41", Place: "north", Firmware: "1"},
		{Tag: "C02", Kind: device.Camera, Name: "Stair", Serial: "A2", MAC: at(2), Address: "10.0.0.42"},
		{Tag: "C03", Kind: device.Camera, Name: "Ramp", Serial: "A3", MAC: at(3), Address: "10.0.0.43"},
	}}
	rows := []map[string]string{
		{"mac": at(1).String(), "name": "Dock 1", "kind": "Kamera", "tag": "CAM-1"},
		{"serial": "a2", "address": "10.0.0.99", "place": "hall"},
		{"mac": at(9).String(), "name": "Gate", "tag": "C09"},
	}
	assert.Equal(t, []Difference{
		{"C01", "name", "Dock 1", "Dock"},
		{"C02", "place", "hall", ""},
		{"C02", "address", "10.0.0.99", "10.0.0.42"},
		{"C03", "new", "", at(3).String()},
		{"C09", "gone", at(9).String(), ""},
	}, Compare(Listed(rows, r), r))
	assert.Empty(t, Compare(Listed([]map[string]string{{"tag": "C01"}, {"tag": "C02", "name": "Stair"}, {"serial": "A3"}}, r), r))
}
