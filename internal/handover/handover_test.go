package handover

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/core/ground"
)

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
			ID: 7, Tag: "C01", InJob: device.Taken, MAC: device.MAC{2, 0, 0, 0, 0, byte(i)}, Proved: made,
			Facts:   device.Facts{Kind: device.Camera, Make: "Tallow & Pike", Model: "Cube", Name: "=HYPERLINK(\"x\")", Serial: "a,\"b\"", Access: device.Keyed},
			AsFound: &device.Settings{Address: netip.MustParseAddr("192.168.77.20"), Prefix: 24, DHCP: true},
			AsLeft:  &device.Settings{Address: netip.MustParseAddr("10.61.8.42"), Prefix: 23, Gateway: netip.MustParseAddr("10.61.8.1")},
		})
	}
	return New("Quillmere Ferry Terminal", g, list, map[int64]bool{7: true}, made)
}

func TestRecordHoldsTheJobAndWhatIsOpen(t *testing.T) {
	r := record(1)
	require.Len(t, r.Devices, 3, "a device left out of the job is not handed over")
	assert.Equal(t, []string{"R01 has no address allotted yet", "C91 is not commissioned yet"}, r.Open)
	assert.Equal(t, []Count{{device.Recorder, 1}, {device.Camera, 2}}, r.Counts())
	assert.Equal(t, "255.255.254.0", r.Devices[2].Mask)
	assert.Equal(t, []string{"C01"}, r.InClear())
}

func TestCSV(t *testing.T) {
	b, err := record(1).CSV()
	require.NoError(t, err)
	rows, err := csv.NewReader(strings.NewReader(string(b))).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 4)
	assert.Equal(t, csvHead, rows[0])
	last := map[string]string{}
	for i, h := range rows[0] {
		last[h] = rows[3][i]
	}
	assert.Equal(t, `a,"b"`, last["serial"])
	assert.Equal(t, `'=HYPERLINK("x")`, last["name"], "a name from a device is no formula")
	assert.Equal(t, "192.168.77.20/24 DHCP", last["found_at"])
	assert.Equal(t, "2026-11-23T09:30:00Z", last["proved_at"])
	assert.Equal(t, "set without encryption", last["password"])
	assert.Empty(t, rows[1][len(csvHead)-1])
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
	for _, r := range []Record{record(3), record(0), New("x", ground.Ground{}, nil, nil, made)} {
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
	a, err := record(90).PDF()
	require.NoError(t, err)
	b, err := record(90).PDF()
	require.NoError(t, err)
	assert.Equal(t, a, b)
	assert.True(t, strings.HasPrefix(string(a), "%PDF-"))
	assert.Contains(t, string(a), "/Count 4", "ninety devices take several pages")
}

func TestALeaseByReservationIsTheClientsToKeep(t *testing.T) {
	d := device.Device{
		Tag: "C31", InJob: device.Taken, MAC: device.MAC{2, 1}, Proved: made, Allotted: &device.Settings{DHCP: true},
		AsLeft: &device.Settings{Address: netip.MustParseAddr("10.61.8.73"), Prefix: 23, DHCP: true},
	}
	r := New("Quay", ground.Ground{}, []device.Device{d}, nil, made)
	assert.Equal(t, []string{"C31 takes nothing but a lease: the site's DHCP server has to keep 10.61.8.73 for 02:01:00:00:00:00"}, r.Open)
}
