package sheetfile

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/sheet"
)

func TestNewSheetIsSound(t *testing.T) {
	s, err := Parse(New(`Quay: "north"`, "10.61.8.0/23", "10.61.8.1", time.Now()))
	require.NoError(t, err)
	assert.Equal(t, `Quay: "north"`, s.Name)
	c, ok := s.Claim()
	require.True(t, ok)
	assert.Equal(t, ground.Claim{Source: "the job sheet", Subnet: netip.MustParsePrefix("10.61.8.0/23"), Gateway: netip.MustParseAddr("10.61.8.1")}, c)

	bare := string(New("x", "", "", time.Now()))
	s, err = Parse([]byte(bare))
	require.NoError(t, err)
	_, ok = s.Claim()
	assert.False(t, ok)

	// Every line that is commented out works once the comment sign is taken away.
	open := strings.NewReplacer("# subnet", "subnet", "# gateway", "gateway", "# override", "override", "# keep", "keep", "# dhcp", "dhcp",
		"# blocks", "blocks", "#   camera", "  camera", "# password:", "password:", "#   user", "  user", "#   min", "  min", "#   tries", "  tries",
		"# names:", "names:", "#   C01", "  C01", "# survey", "survey", "#   factory", "  factory", "#   rate", "  rate").Replace(bare)
	s, err = Parse([]byte(open))
	require.NoError(t, err)
	assert.Equal(t, "Ticket hall east", s.Names["C01"])
	assert.Equal(t, 12, s.Rules().MinLen)
	assert.Len(t, s.Reserved(), 3)
	assert.Equal(t, "10.61.8.41–10.61.8.239", s.BlocksIn(netip.MustParsePrefix("10.61.8.0/23"))[3].Range.String())
}

// Text stays as it was typed, whatever else it looks like.
func TestTextThatLooksLikeSomethingElse(t *testing.T) {
	typed := map[string]string{"C01": "123", "C02": "1e3", "C03": "yes", "C04": "0017", "C05": "10:30", "C06": "2026-01-01", "C07": "true", "C08": "0x1F", "C09": ".5", "C10": "~x", "C11": "1_000", "C12": "+1"}
	text := "\ufeffname: 12\nnames:\n"
	for ref, name := range typed {
		text += "  " + ref + ": " + name + "\n"
	}
	text += "password: {factory: [{user: 007, password: 0123}]}\nexpected: {camera: 12}\nlease: {time: 30m}\n"
	s, err := Parse([]byte(text))
	require.NoError(t, err)
	assert.Equal(t, typed, s.Names)
	assert.Equal(t, "12", s.Name)
	assert.Equal(t, []sheet.FactoryKey{{User: "007", Password: "0123"}}, s.Password.Factory)
	assert.Equal(t, 12, s.Expected["camera"])
	assert.Equal(t, 30*time.Minute, s.Lease.Time)
}

// What is most likely not meant is told, with its place.
func TestRemarksOnASheet(t *testing.T) {
	s, err := Parse([]byte("\ufeffnames:\n  C01: Quay\n  C77: Ramp\n  SER-9: quay\nusers: [{name: v, role: user, on: [C88, camera]}]\n"))
	require.NoError(t, err)
	devices := []device.Device{{Tag: "C01"}}
	assert.Equal(t, []string{
		"it begins with a byte-order mark, which is passed over",
		"line 3, column 3: names.C77: no device has the tag C77",
		"line 4, column 3: names.SER-9: C01 and SER-9 are all called \"Quay\"",
		"line 5, column 36: users[0].on[0]: no device has the tag C88",
	}, s.Among(devices).Remarks(devices))
}

// A setting that cannot be had by a device is said of it, at its place in the sheet.
func TestAPortThatCannotBeIsARemark(t *testing.T) {
	s, err := Parse([]byte("name: S\nports: {rtsp: 61000+}\n"))
	require.NoError(t, err)
	camera := func(tag, at string) device.Device {
		p := netip.MustParsePrefix(at)
		return device.Device{Tag: tag, InJob: device.Taken, Facts: device.Facts{Kind: device.Camera}, Allotted: &device.Settings{Address: p.Addr(), Prefix: p.Bits()}}
	}
	devices := []device.Device{camera("C01", "10.61.8.41/16"), camera("C02", "10.61.31.41/16")}
	got := s.Among(devices).Remarks(devices)
	require.Len(t, got, 1)
	assert.Contains(t, got[0], "line 2, column ")
	assert.Contains(t, got[0], "ports.rtsp: C02: 61000+ and the number of 10.61.31.41 in its subnet make 68977: ports end at 65535")
}

func TestParseSheetRefuses(t *testing.T) {
	for name, c := range map[string]struct{ text, says string }{
		"several at once":   {"name: [1,2]\npasword: {}\npassword:\n  min_length: twelve\n  style: ech\n", "line 4, column 15: password.min_length: write a whole number, and not \"twelve\""},
		"a list for a text": {"name: [1,2]\n", "line 1, column 7: name: write text here, and not a list or a mapping"},
		"a text for keys":   {"network: 10.0.0.0/24\n", "line 1, column 10: network: write keys with values below it"},
		"a list for all":    {"- a\n- b\n", "the sheet: write keys with values below it"},
		"a text for a list": {"network: {dns: 10.0.0.1}\n", "line 1, column 16: network.dns: write a list here: [10.0.0.1]"},
		"no address":        {"network: {dns: [10.0.0.300]}\n", "line 1, column 17: network.dns[0]: write an IPv4 address"},
		"no time":           {"lease: {time: 2}\n", "lease.time: write a time with its unit, as 2h or 30m, and not \"2\""},
		"no yes":            {"captions: maybe\n", "captions: write true or false, and not \"maybe\""},
		"a style":           {"password: {style: ech}\n", "line 1, column 12: password.style: \"ech\": use shared, by_kind or each (did you mean each?)"},
		"a kind":            {"blocks:\n  camra: 10.0.0.1-10.0.0.9\n", "line 2, column 3: blocks.camra: the kinds are camera, recorder, intercom and panel (did you mean camera?)"},
		"a role":            {"users: [{name: v, role: usr}]\n", "users[0].role: \"usr\": use administrator, operator or user (did you mean user?)"},
		"the same twice":    {"name: x\nnetwork: {}\nname: y\n", "line 3, column 1: \"name\" is there twice, first at line 1"},
		"a second document": {"name: x\n---\nname: y\n", "line 2, column 1: a second document begins here"},
		"a tab":             {"names:\n\tC01: x\n", "there is a tab: indent with spaces"},
		"a tag of YAML":     {"name: !!str 12\n", "a tag of YAML has no meaning here"},
		"unknown key":       {"name: x\nnetwrok:\n  subnet: 10.0.0.0/24\n", "line 2, column 1: the sheet has no key \"netwrok\" (did you mean network?)"},
		"bad subnet":        {"network: {subnet: 10.0.0.0}", "network.subnet"},
		"subnet too wide":   {"network: {subnet: 10.0.0.0/7}", "outside /8 to /30"},
		"bad gateway":       {"network: {gateway: ten}", "network.gateway"},
		"backward range":    {"network: {keep_clear: [10.0.0.9-10.0.0.1]}", "runs backwards"},
		"bad range":         {"network:\n  dhcp_pools: [10.0.0.9-x]", "not an IPv4 address"},
		"unknown kind":      {"blocks: {toaster: 10.0.0.1-10.0.0.2}", "blocks.toaster"},
		"too many tries":    {"password: {tries_per_hour: 9}", "tries_per_hour"},
		"syntax":            {"name: [", "jobsheet"},
		"not a map":         {"- a\n- b\n", ""},
		"alias":             {"names: &a {C01: x}\nblocks: *a\n", "anchors and aliases"},
		"name of two lines": {"names: {C01: \"a\\nb\"}", "has a character that no name has"},
		"wrong type":        {"survey: {rate: fast}", "line 1, column 16: survey.rate: write a whole number, and not \"fast\""},
	} {
		_, err := Parse([]byte(c.text))
		require.ErrorIs(t, err, sheet.ErrSheet, name)
		if c.says != "jobsheet" {
			assert.ErrorContains(t, err, c.says, name)
		}
	}
	_, err := Parse(make([]byte, maxSheet+1))
	require.ErrorIs(t, err, sheet.ErrSheet)
}

func TestNameFor(t *testing.T) {
	sheet, err := Parse([]byte("names:\n  C01: By tag\n  02:e4:42:00:01:02: By MAC\n  VD-3: By serial\n  Twin: Twins\n"))
	require.NoError(t, err)
	mac, err := device.ParseMAC("02:e4:42:00:01:02")
	require.NoError(t, err)
	devices := []device.Device{
		{Tag: "C01", MAC: mac, Facts: device.Facts{Serial: "VD-3"}},
		{Tag: "C02", MAC: mac, Facts: device.Facts{Serial: "C01"}},
		{Tag: "C03", Facts: device.Facts{Serial: "vd-4"}},
		{Tag: "C04", Facts: device.Facts{Serial: "twin"}},
		{Tag: "C05", Facts: device.Facts{Serial: "twin"}},
		{Tag: "VD-9", Facts: device.Facts{Serial: "C07"}},
	}
	s := sheet.Among(devices)
	assert.Equal(t, "By tag", s.NameFor(&devices[0]), "the tag before the MAC before the serial")
	assert.Equal(t, "By MAC", s.NameFor(&devices[1]), "what calls itself by another's tag does not get its name")
	assert.Empty(t, s.NameFor(&devices[2]))
	assert.Empty(t, s.NameFor(&devices[3]), "two claim that serial")
	assert.Equal(t, "By serial", s.NameFor(&device.Device{Facts: device.Facts{Serial: "vd-3"}}))
	assert.Equal(t, "By serial", sheet.Among(nil).NameBySerial("VD-3"))
	assert.Empty(t, s.NameBySerial("VD-3"), "a known device has that one")
	assert.Empty(t, s.NameBySerial(""))
}

// A device says its serial itself: it must not pick what is meant for another by it.
func TestADeviceCannotChooseItsOwnExceptions(t *testing.T) {
	sheet, err := Parse([]byte("password: {require_tls: true, without_tls: [C07, A1]}\nusers: [{name: guard, role: administrator, on: [C07]}]\n"))
	require.NoError(t, err)
	stranger := device.Device{Tag: "C09", Facts: device.Facts{Serial: "C07"}}
	s := sheet.Among([]device.Device{stranger})
	assert.True(t, s.NeedsTLS(&stranger), "whether or not C07 is there yet")
	assert.Empty(t, s.UsersOn(&stranger))
	clone := device.Device{Tag: "C10", MAC: device.MAC{2, 9}, Facts: device.Facts{Serial: "A1"}}
	real := device.Device{Tag: "C08", MAC: device.MAC{2, 8}, Facts: device.Facts{Serial: "A1"}}
	assert.False(t, sheet.Among([]device.Device{real}).NeedsTLS(&real))
	both := sheet.Among([]device.Device{real, clone})
	assert.True(t, both.NeedsTLS(&clone))
}

func TestTimezone(t *testing.T) {
	for _, good := range []string{"UTC0", "GMT0BST,M3.5.0/1,M10.5.0", "CET-1CEST,M3.5.0,M10.5.0/3", "<+0330>-3:30", "EST5EDT"} {
		_, err := Parse([]byte("timezone: \"" + good + "\""))
		assert.NoError(t, err, good)
	}
	for _, bad := range []string{"Europe/Berlin", "x", "UTC0 \\e[2J", "UTC0;reboot"} {
		_, err := Parse([]byte("timezone: \"" + bad + "\""))
		assert.ErrorIs(t, err, sheet.ErrSheet, bad)
	}
}

func FuzzParseSheet(f *testing.F) {
	f.Add(New("x", "10.61.8.0/23", "10.61.8.1", time.Now()))
	f.Add([]byte("names: {C01: x}\nblocks: {camera: 10.0.0.1-10.0.0.9}"))
	f.Fuzz(func(t *testing.T, data []byte) {
		s, err := Parse(data)
		if err != nil {
			require.ErrorIs(t, err, sheet.ErrSheet)
			return
		}
		s.Reserved()
		s.Claim()
	})
}

func TestSheetOfAnAwkwardSite(t *testing.T) {
	s, err := Parse([]byte(`
network: {dns: [10.61.8.3], ntp: [10.61.8.4], not_ours: [10.99.0.0/16]}
expected: {camera: 24, recorder: 1}
survey: {rate: 500, makers: {"02:e4": Verrine, "02:e4:42": Verrine domes}}
lease: {temporary: 10.61.9.220-10.61.9.239, time: 30m}
`))
	require.NoError(t, err)
	assert.True(t, s.IsNotOurs(netip.MustParseAddr("10.99.3.4")))
	assert.False(t, s.IsNotOurs(netip.MustParseAddr("10.61.8.4")))
	assert.Equal(t, "Verrine domes", s.MakerOf(device.MAC{2, 0xe4, 0x42, 0, 0, 1}), "the longest prefix counts")
	assert.Equal(t, "Verrine", s.MakerOf(device.MAC{2, 0xe4, 0x43, 0, 0, 1}))
	assert.Empty(t, s.MakerOf(device.MAC{2}))
	assert.Equal(t, 30*time.Minute, s.LeaseTime())
	assert.Equal(t, sheet.DefaultLease, (&sheet.Sheet{}).LeaseTime())
	c, ok := s.Claim()
	assert.True(t, ok)
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("10.61.8.3")}, c.DNS)
	for text, want := range map[string]string{
		"network: {dns: [fe80::1]}":             "network.dns",
		"network: {not_ours: [0.0.0.0/0]}":      "network.not_ours[0]",
		"expected: {toaster: 1}":                "expected.toaster",
		"expected: {camera: -1}":                "expected.camera",
		"survey: {rate: 99999}":                 "survey.rate",
		"survey: {makers: {zz: x}}":             "survey.makers",
		"lease: {time: 1s}":                     "lease.time",
		"lease: {temporary: 10.0.0.9-10.0.0.1}": "runs backwards",
	} {
		_, err := Parse([]byte(text))
		require.ErrorIs(t, err, sheet.ErrSheet, text)
		assert.ErrorContains(t, err, want)
	}
}

// What nests without end is refused before a parser spends minutes on it.
func TestASheetThatNestsWithoutEnd(t *testing.T) {
	for _, deep := range []string{"[", "{a: ", "- ", "? ", "a: "} {
		_, err := Parse([]byte("password: " + strings.Repeat(deep, 100_000)))
		require.ErrorIs(t, err, sheet.ErrSheet)
		assert.Contains(t, err.Error(), "nested more than 64 deep")
	}
}
