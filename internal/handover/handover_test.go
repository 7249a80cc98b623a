package handover

import (
	"bytes"
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"image"
	"image/jpeg"
	"net/netip"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/open"
)

var options = Options{Paper: A4, Sheet: LabelSheets[0]}

var made = time.Date(2026, 11, 23, 9, 30, 0, 0, time.UTC)

func record(n int) Record {
	g := ground.Ground{Subnet: netip.MustParsePrefix("10.61.8.0/23"), Gateway: netip.MustParseAddr("10.61.8.1")}
	list := []device.Device{
		{Tag: "R01", InJob: device.Taken, Facts: device.Facts{Kind: device.Recorder, Access: device.Fresh}},
		{Tag: "C90", InJob: device.Left, Facts: device.Facts{Kind: device.Camera}},
		{Tag: "C91", InJob: device.Taken, Allotted: &device.Settings{}, Facts: device.Facts{Kind: device.Camera, Access: device.Fresh}},
	}
	for i := range n {
		list = append(list, device.Device{
			ID: 7, Tag: "C01", InJob: device.Taken, MAC: device.MAC{2, 0, 0, 0, 0, byte(i)}, Proved: made, OpenedAt: made.Add(-time.Hour),
			Facts:   device.Facts{Kind: device.Camera, Make: "Tallow & Pike", Model: "Cube", Name: "=HYPERLINK(\"x\")", Serial: "a,\"b\"", Access: device.Keyed},
			AsFound: &device.Settings{Address: netip.MustParseAddr("192.168.77.20"), Prefix: 24, DHCP: true},
			AsLeft:  &device.Settings{Address: netip.MustParseAddr("10.61.8.42"), Prefix: 23, Gateway: netip.MustParseAddr("10.61.8.1")},
		})
	}
	for i := range list {
		list[i].ChangedAt = made
	}
	f := Material{Site: "Quillmere Ferry Terminal", Ground: g, InClear: map[int64]bool{7: true}, Notes: map[int64]map[string]string{7: {"place": "Hall", "port": "3", "remark": "+high", "cable": "@blue"}}}
	f.Spans = []Span{{From: netip.MustParseAddr("10.61.9.100"), To: netip.MustParseAddr("10.61.9.199"), Why: "in a DHCP pool", Pool: true}, {From: netip.MustParseAddr("10.61.8.2"), To: netip.MustParseAddr("10.61.8.2"), Why: "the DHCP server"}}
	f.Open = open.List(open.State{Devices: list, Surveyed: made, InClear: f.InClear})
	return New(f, list)
}

func TestRecordHoldsTheJobAndWhatIsOpen(t *testing.T) {
	r := record(1)
	require.Len(t, r.Devices, 3, "a device left out of the job is not handed over")
	assert.Equal(t, []string{
		"C01 did not answer the last survey", "C91 did not answer the last survey", "R01 did not answer the last survey",
		"R01 has no address allotted", "C91 is not set up yet", "C01 is on no channel of a recorder", "C91 is on no channel of a recorder", "C01 had its password set without encryption",
	}, r.Open)
	assert.Equal(t, "Not finished: 1 of 3 devices proved. 3 did not answer. 1 not set up. 1 without an address.", r.Verdict.Words)
	assert.False(t, r.Verdict.Finished)
	assert.Equal(t, []Count{{device.Recorder, 1}, {device.Camera, 2}}, r.Counts())
	assert.Equal(t, "255.255.254.0", r.Devices[2].Mask)
}

func TestCSV(t *testing.T) {
	b, err := record(1).CSV()
	require.NoError(t, err)
	rows, err := csv.NewReader(strings.NewReader(string(b))).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 4)
	require.Len(t, rows[0], len(columns)+1)
	assert.Equal(t, []string{"tag", "kind", "name", "place"}, rows[0][:4])
	assert.Equal(t, []string{"remark", "cable"}, rows[0][len(columns)-1:])
	last := map[string]string{}
	for i, h := range rows[0] {
		last[h] = rows[3][i]
	}
	assert.Equal(t, `a,"b"`, last["serial"])
	assert.Equal(t, `'=HYPERLINK("x")`, last["name"], "a name from a device is no formula")
	assert.Equal(t, "192.168.77.20/24 DHCP", last["found_at"])
	assert.Equal(t, "2026-11-23T09:30:00Z", last["proved_at"])
	assert.Equal(t, "set without encryption", last["password"])
	assert.Empty(t, rows[1][len(columns)-1])
}

func TestJSONReadsBack(t *testing.T) {
	b, err := record(1).JSON()
	require.NoError(t, err)
	var got Record
	require.NoError(t, json.Unmarshal(b, &got))
	assert.Equal(t, record(1), got)
}

func TestJSONFitsItsPublishedSchema(t *testing.T) {
	schema, err := jsonschema.NewCompiler().Compile("../../docs/register.schema.json")
	require.NoError(t, err)
	for _, r := range []Record{record(3), record(0), New(Material{Site: "x"}, nil)} {
		b, err := r.JSON()
		require.NoError(t, err)
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
		require.NoError(t, err)
		require.NoError(t, schema.Validate(doc))
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(`{"site": 1}`))
	require.NoError(t, err)
	require.Error(t, schema.Validate(doc))
}

func TestPDFIsRepeatableAndPaged(t *testing.T) {
	a, err := record(90).PDF(options)
	require.NoError(t, err)
	b, err := record(90).PDF(options)
	require.NoError(t, err)
	assert.Equal(t, a, b)
	assert.True(t, strings.HasPrefix(string(a), "%PDF-"))
	pages := regexp.MustCompile(`/Count (\d+)`).FindSubmatch(a)
	require.NotNil(t, pages)
	n, err := strconv.Atoi(string(pages[1]))
	require.NoError(t, err)
	assert.Greater(t, n, 34, "ninety devices, three cards a page, and a list of several pages")
}

func TestALeaseByReservationIsTheClientsToKeep(t *testing.T) {
	d := device.Device{
		Tag: "C31", InJob: device.Taken, MAC: device.MAC{2, 1}, Proved: made, Allotted: &device.Settings{DHCP: true},
		AsLeft: &device.Settings{Address: netip.MustParseAddr("10.61.8.73"), Prefix: 23, DHCP: true},
	}
	r := New(Material{Site: "Quay", Open: open.List(open.State{Devices: []device.Device{d}})}, []device.Device{d})
	assert.Contains(t, r.Open, "C31 accepts only DHCP: the site's DHCP server must keep 10.61.8.73 for 02:01:00:00:00:00")
}

const hostile = `<script>alert(1)</script>"'&]]>`

// The whole pack is the same for the same state, and takes what a device says as text.
func TestThePackIsRepeatableAndInert(t *testing.T) {
	r := record(2)
	r.Devices[2].Name, r.Site = hostile, hostile
	r.Devices[2].Own = map[string]string{"=cmd": "+1"}
	r.Channels = []Channel{{"R01", 1, "C01", hostile, "10.61.8.42", "connected"}}
	o := options
	o.Stills = map[string][]byte{"C01": jpegOf(t)}
	a, err := r.Pack(o)
	require.NoError(t, err)
	b, err := r.Pack(o)
	require.NoError(t, err)
	assert.Equal(t, a, b)
	docs := map[string][]byte{}
	for _, d := range a {
		docs[d.Name] = d.Data
	}
	html := string(docs["handover.html"])
	assert.NotContains(t, html, "<script>alert")
	assert.Contains(t, html, "&lt;script&gt;alert(1)")
	assert.Contains(t, html, "data:image/jpeg;base64,")
	assert.NotContains(t, html, "http://", "it needs nothing else")
	_, lines, _ := strings.Cut(string(docs["hosts"]), "\n")
	assert.NotContains(t, lines, "<")
	assert.Contains(t, string(docs["hosts"]), "10.61.8.42\tc01 script-alert-1-script\n")
	var m struct {
		Files []struct{ Name, SHA256 string }
	}
	require.NoError(t, json.Unmarshal(docs["manifest.json"], &m))
	require.Len(t, m.Files, len(a)-1)
	for _, f := range m.Files {
		h := sha256.Sum256(docs[f.Name])
		assert.Equal(t, hex.EncodeToString(h[:]), f.SHA256, f.Name)
	}
}

// Six packs of one job have one hash, with many pictures too: whoever checks a signature makes
// the pack anew.
func TestPicturesAreAlwaysInTheSameOrder(t *testing.T) {
	r := record(1)
	o := options
	o.Stills = map[string][]byte{}
	for i := range 9 {
		e := r.Devices[2]
		e.Tag = fmt.Sprintf("C%02d", i+10)
		r.Devices = append(r.Devices, e)
		var b bytes.Buffer
		require.NoError(t, jpeg.Encode(&b, image.NewGray(image.Rect(0, 0, 64, 40+i)), nil))
		o.Stills[e.Tag] = b.Bytes()
	}
	var first []Document
	for range 6 {
		docs, err := r.Pack(o)
		require.NoError(t, err)
		if first == nil {
			first = docs
		}
		for i := range docs {
			assert.Equal(t, sha256.Sum256(first[i].Data), sha256.Sum256(docs[i].Data), docs[i].Name)
		}
	}
}

func jpegOf(t *testing.T) []byte {
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, image.NewGray(image.Rect(0, 0, 64, 48)), nil))
	return b.Bytes()
}

func TestTheWorkbookHasRealTypesAndNoFormulas(t *testing.T) {
	r := record(1)
	r.Channels = []Channel{{"R02", 2, "C02", "", "", ""}, {"R01", 10, "C01", "=1+1", "10.61.8.42", "connected"}, {"R01", 2, "C03", "", "", ""}}
	data, err := r.XLSX()
	require.NoError(t, err)
	f, err := excelize.OpenReader(bytes.NewReader(data))
	require.NoError(t, err)
	defer f.Close()
	assert.Equal(t, []string{"Recorders", "Cameras", "Network", "Channels", "Site", "Open"}, f.GetSheetList())
	name, err := f.GetCellValue("Cameras", "B3")
	require.NoError(t, err)
	assert.Equal(t, `=HYPERLINK("x")`, name)
	for _, sheet := range f.GetSheetList() {
		rows, err := f.GetRows(sheet)
		require.NoError(t, err)
		for y, row := range rows {
			for x := range row {
				at, err := excelize.CoordinatesToCellName(x+1, y+1)
				require.NoError(t, err)
				formula, err := f.GetCellFormula(sheet, at)
				require.NoError(t, err)
				assert.Empty(t, formula, "%s %s", sheet, at)
			}
		}
	}
	kind, err := f.GetCellType("Channels", "B2")
	require.NoError(t, err)
	assert.NotEqual(t, excelize.CellTypeSharedString, kind, "a number is a number")
	first, err := f.GetCellValue("Channels", "B2")
	require.NoError(t, err)
	assert.Equal(t, "2", first, "in the order of recorder and number")
}

// Names in any writing that the face has are drawn as they are, and nothing else is fatal.
func TestNamesOfOtherWritings(t *testing.T) {
	for _, name := range []string{"Người gác cổng", "Причал №3", "Αποβάθρα", "שער", "Ånge → dörr", "Հայաստան"} {
		assert.Equal(t, name, printable(name))
	}
	assert.Equal(t, "□□ 7", printable("門口 7"), "what it has no sign for is a box")
	r := record(1)
	r.Devices[2].Name = "門口 🎥 Người"
	_, err := r.Pack(options)
	require.NoError(t, err)
}

func TestTheAddressPlan(t *testing.T) {
	r := record(1)
	given := map[string]bool{"10.61.8.42": true}
	for a, want := range map[string]use{"10.61.8.42": used, "10.61.8.1": network, "10.61.8.0": network, "10.61.9.255": network, "10.61.9.150": pool, "10.61.8.2": clear, "10.61.8.77": free} {
		assert.Equal(t, want, r.useOf(netip.MustParseAddr(a), given), a)
	}
}

func TestEveryLabelSheetFitsItsPaper(t *testing.T) {
	for _, s := range LabelSheets {
		wide, tall := s.Paper.size()
		assert.LessOrEqual(t, s.Left+float64(s.Across-1)*s.StepX+s.Wide, wide+0.01, s.Name)
		assert.LessOrEqual(t, s.Top+float64(s.Down-1)*s.StepY+s.Tall, tall+0.6, s.Name)
		_, err := record(50).Labels(Options{Paper: s.Paper, Sheet: s})
		require.NoError(t, err)
	}
}

// still is a picture of its own, as large as those of cameras are in the documents.
func still(b *testing.B, n int) []byte {
	img := image.NewRGBA(image.Rect(0, 0, 640, 360))
	for i := range img.Pix {
		img.Pix[i] = byte(i*n/7 + i/640)
	}
	var out bytes.Buffer
	require.NoError(b, jpeg.Encode(&out, img, &jpeg.Options{Quality: 20}))
	return out.Bytes()
}

func BenchmarkPack(b *testing.B) {
	for _, n := range []int{10, 100, 1000} {
		r, o := record(n), options
		o.Stills = map[string][]byte{}
		for i := range r.Devices {
			r.Devices[i].Tag = fmt.Sprintf("C%03d", i)
			o.Stills[r.Devices[i].Tag] = still(b, i)
		}
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				if _, err := r.Pack(o); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// What a proved device refuses stands on page one, and nothing says that all is well above it.
func TestWhatDevicesRefuseStandsOnPageOne(t *testing.T) {
	at := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	d := device.Device{ID: 7, Tag: "C01", InJob: device.Taken, Proved: at, AsLeft: &device.Settings{Address: netip.MustParseAddr("10.61.8.41"), Prefix: 23}, Facts: device.Facts{Kind: device.Camera, Access: device.Keyed}}
	proofs := func(at time.Time, checks ...open.Check) map[int64]open.Proof {
		return map[int64]open.Proof{7: {At: at, Failed: checks}}
	}
	of := func(p map[int64]open.Proof) Record {
		d.SeenAt = at
		return New(Material{Site: "Quay", Open: open.List(open.State{Devices: []device.Device{d}, Surveyed: at, Proofs: p})}, []device.Device{d})
	}
	clock := open.Check{Name: "clock", Want: "within 2s", Got: "1h0m0s off", Refused: true}
	r := of(proofs(at, clock))
	assert.Equal(t, []string{"C01 clock: should be within 2s, is 1h0m0s off; the device refuses to have it set"}, r.Open)
	assert.Equal(t, "The device is proved: every check passed, except 1 setting that devices refuse.", r.Verdict.Words)
	page, err := r.HTML(Options{})
	require.NoError(t, err)
	assert.Contains(t, string(page), "<li>C01 clock: should be within 2s, is 1h0m0s off; the device refuses to have it set</li>")
	assert.Contains(t, string(page), r.Verdict.Words)
	clock.Refused = false
	d.Proved = time.Time{}
	r = of(proofs(at, clock))
	assert.Equal(t, "Not finished: 0 of 1 devices proved. 1 failed a check.", r.Verdict.Words)
	assert.Equal(t, []OpenItem{{Device: "C01", What: open.Failed, Text: "clock: should be within 2s, is 1h0m0s off", Urgency: "now", Check: "clock", Expected: "within 2s", Found: "1h0m0s off", Since: at}}, r.Items)
	page, err = r.HTML(Options{})
	require.NoError(t, err)
	assert.Contains(t, string(page), "<td>clock</td><td>within 2s</td><td>1h0m0s off</td><td>2026-11-29 12:00 UTC</td>")
	d.ChangedAt = at.Add(time.Hour)
	assert.Equal(t, []string{"C01 was not proved since it was changed last"}, of(proofs(at, clock)).Open)
}
