package sheetfile

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/sheet"
	"janustat/internal/intake"
)

// team are devices of a job.
func team() []device.Device {
	of := func(id int64, tag string, kind device.Kind, indoor bool) device.Device {
		return device.Device{ID: id, Tag: tag, InJob: device.Taken, MAC: device.MAC{2, 0, 0, 0, 0, byte(id)}, Facts: device.Facts{Kind: kind, Indoor: indoor, Serial: "S-" + tag}}
	}
	return []device.Device{
		of(1, "R01", device.Recorder, false), of(2, "R02", device.Recorder, false), of(3, "C01", device.Camera, false), of(4, "C02", device.Camera, false),
		of(5, "D01", device.Intercom, false), of(6, "I01", device.Intercom, true), of(7, "I02", device.Intercom, true), of(8, "P01", device.Panel, false),
	}
}

func TestWhatWorksTogether(t *testing.T) {
	s, err := Parse([]byte("channels: {R01: {3: C02}, R02: auto}\nintercoms:\n  D01:\n    I01: {floor: -1, flat: \"001\"}\n    S-I02: {floor: 2, flat: 201}\nreporting: {server: 10.61.8.6, port: 7700}\n"))
	require.NoError(t, err)
	j, err := s.Among(team()).Joined(team())
	require.NoError(t, err)
	require.Len(t, j.Recorders, 2)
	assert.Equal(t, "C02", j.Recorders[0].Fixed[3].Tag)
	assert.False(t, j.Recorders[0].Auto)
	assert.True(t, j.Recorders[1].Auto)
	require.Len(t, j.Auto, 1)
	assert.Equal(t, "C01", j.Auto[0].Tag)
	require.Len(t, j.Pairs, 2)
	assert.Equal(t, -1, j.Pairs[0].Floor)
	assert.Equal(t, "001", j.Pairs[0].Flat, "digits, and no number")
	require.Len(t, j.Reporters, 1)
	assert.Equal(t, "10.61.8.6", s.Reserved()[0].Range.From.String())

	s, err = Parse([]byte("reporting: {server: 10.61.8.6, port: 7700, devices: [P01, panel, recorder, P01]}\n"))
	require.NoError(t, err)
	j, err = s.Among(team()).Joined(team())
	require.NoError(t, err)
	assert.Len(t, j.Reporters, 3, "a panel named twice, and two recorders, report once each")

	s, err = Parse([]byte("channels: auto\n"))
	require.NoError(t, err)
	j, err = s.Among(team()).Joined(team())
	require.NoError(t, err)
	assert.Len(t, j.Recorders, 2)
	assert.Len(t, j.Auto, 2)
}

// All that is wrong is told at once, each by its line and column.
func TestWhatIsWrongInItIsToldByLineAndColumn(t *testing.T) {
	for name, x := range map[string]struct {
		sheet string
		want  []string
	}{
		"no word for channels":  {"channels: yes\n", []string{`line 1, column 11: channels: "yes"`}},
		"a list":                {"channels: [C01]\n", []string{"line 1, column 11: channels"}},
		"a word for a recorder": {"channels:\n  R01: all\n", []string{`line 2, column 8: channels.R01: "all"`}},
		"a channel twice":       {"channels:\n  R01:\n    1: C01\n    01: C02\n", []string{"line 4, column 5: channels.R01: channel 1 is there twice"}},
		"a camera twice":        {"channels:\n  R01: {1: C01, 2: c01}\n", []string{"line 2, column 20: channels.R01: c01 is on another channel already, at line 2"}},
		"channel zero, and no number": {"channels:\n  R01: {0: C01, x: C02}\n", []string{
			`line 2, column 9: channels.R01: "0" cannot be a channel`, `line 2, column 17: channels.R01: "x" cannot be a channel`,
		}},
		"a floor that is no number, no flat, and a flat of letters": {"intercoms:\n  D01:\n    I01: {floor: first, flat: 101}\n    I02: {floor: 1}\n    I03: {flat: A1, colour: red}\n", []string{
			`line 3, column 18: intercoms.D01.I01.floor: "first" is not a number`, "line 4, column 5: intercoms.D01.I02: give its flat", `line 5, column 17: intercoms.D01.I03.flat: "A1"`, `line 5, column 21: intercoms.D01.I03: unknown key "colour"`,
		}},
		"a flat twice":  {"intercoms: {D01: {I01: {flat: 1}, I02: {flat: 1}}}\n", []string{"line 1, column 35: intercoms.D01.I02: flat 1 is there twice"}},
		"no server":     {"reporting: {port: 7700}\n", []string{"line 1, column 13: reporting: give server and port"}},
		"no port":       {"reporting: {server: host, port: 99999}\n", []string{`line 1, column 21: reporting.server: "host"`, `line 1, column 33: reporting.port: "99999"`}},
		"the user name": {"channels: auto\nusers: [{name: Recorder, role: user}]\n", []string{"the user recorder is made for the recorder automatically"}},
	} {
		_, err := Parse([]byte(x.sheet))
		require.ErrorIs(t, err, sheet.ErrSheet, name)
		for _, w := range x.want {
			assert.ErrorContains(t, err, w, name)
		}
	}
	for name, x := range map[string]struct{ sheet, want string }{
		"unknown":            {"channels: {R09: auto}\n", "line 1, column 12: channels: R09 is not in the job"},
		"a panel records":    {"channels: {P01: auto}\n", "line 1, column 12: channels: P01 is no recorder"},
		"a door is rung":     {"intercoms: {D01: {D01: {flat: 1}}}\n", "line 1, column 19: intercoms.D01: D01 is no indoor station"},
		"one in no pair":     {"intercoms: {D01: {I01: {flat: 1}}}\n", "intercoms: I02 is in no pair"},
		"an unknown reports": {"reporting: {server: 10.0.0.1, port: 1, devices: [P01, camera, X9]}\n", "line 1, column 63: reporting.devices: X9 is not in the job"},
	} {
		s, err := Parse([]byte(x.sheet))
		require.NoError(t, err, name)
		_, err = s.Among(team()).Joined(team())
		require.ErrorIs(t, err, sheet.ErrSheet, name)
		assert.ErrorContains(t, err, x.want, name)
	}
}

// Names go into the sheet without anything else in it being touched.
func TestNamesAreWrittenIntoTheSheet(t *testing.T) {
	path := filepath.Join(t.TempDir(), "jobsheet.yaml")
	write := func(text string) { require.NoError(t, os.WriteFile(path, []byte(text), 0o600)) }
	read := func() string {
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		return string(b)
	}
	write("name: x # the site\n")
	require.NoError(t, AddNames(path, map[string]string{"C01": "Quay", "02:00:00:00:00:01": "a: #b"}))
	assert.Equal(t, "name: x # the site\n\nnames:\n  02:00:00:00:00:01: \"a: #b\"\n  C01: Quay\n", read())
	s, err := Read(path)
	require.NoError(t, err)
	assert.Equal(t, "a: #b", s.Names["02:00:00:00:00:01"])
	require.NoError(t, Rename(path, "02:00:00:00:00:01", "Gate"))
	assert.Equal(t, "name: x # the site\n\nnames:\n  02:00:00:00:00:01: Gate\n  C01: Quay\n", read())

	write("names: # of things\n  'C01': \"Quay # 1\"   # by the water\n  C02: Stair\ncaptions: false\n")
	require.NoError(t, Rename(path, "C01", "Pier"))
	assert.Equal(t, "names: # of things\n  'C01': Pier   # by the water\n  C02: Stair\ncaptions: false\n", read())
	require.NoError(t, AddNames(path, map[string]string{"C03": "Hall"}))
	assert.Equal(t, "names: # of things\n  C03: Hall\n  'C01': Pier   # by the water\n  C02: Stair\ncaptions: false\n", read())
	write("names: {C01: Quay, 'C 2': x} # all\n")
	require.NoError(t, AddNames(path, map[string]string{"C02": "a, b: }"}))
	require.NoError(t, Rename(path, "C01", "Pier, [1]"))
	assert.Equal(t, "names: {\"C02\": \"a, b: }\", C01: \"Pier, [1]\", 'C 2': x} # all\n", read())
	s, err = Read(path)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"C01": "Pier, [1]", "C02": "a, b: }", "C 2": "x"}, s.Names)
	write("\ufeffnames: {}\n")
	require.NoError(t, AddNames(path, map[string]string{"C02": "x"}))
	assert.Equal(t, "\ufeffnames: {\"C02\": \"x\"}\n", read())
	write("names:\n\n# first\n      C01: Quay\n")
	require.NoError(t, AddNames(path, map[string]string{"C02": "x"}))
	assert.Equal(t, "names:\n      C02: x\n\n# first\n      C01: Quay\n", read())
	write("names:")
	require.NoError(t, AddNames(path, map[string]string{"C02": "x"}))
	assert.Equal(t, "names:\n  C02: x\n", read())
	write("names:\n  C01: >\n    Quay\n    east\n")
	require.ErrorIs(t, Rename(path, "C01", "x"), ErrByHand)
	write("names:\n  C01: Quay\n")
	require.ErrorIs(t, AddNames(path, map[string]string{"C02": strings.Repeat("x", 99)}), sheet.ErrSheet)
	assert.Equal(t, "names:\n  C01: Quay\n", read())
}

func TestUsersOfTheSheet(t *testing.T) {
	said, err := Parse([]byte("password: {require_tls: true, without_tls: [C07, '02:00:00:00:00:09']}\nusers:\n  - {name: viewer, role: user, on: [recorder, C01]}\n  - {name: watch, role: operator}\n"))
	require.NoError(t, err)
	s := said.Among(nil)
	watch := commission.Account{Name: "watch", Level: commission.Operator}
	assert.Equal(t, []commission.Account{{Name: "viewer", Level: commission.Viewer}, watch}, s.UsersOn(&device.Device{Facts: device.Facts{Kind: device.Recorder}}))
	assert.Len(t, s.UsersOn(&device.Device{Tag: "C01"}), 2)
	assert.Equal(t, []commission.Account{watch}, s.UsersOn(&device.Device{Tag: "C02"}))
	assert.True(t, s.NeedsTLS(&device.Device{Tag: "C01"}))
	assert.False(t, s.NeedsTLS(&device.Device{Tag: "C07"}))
	assert.False(t, s.NeedsTLS(&device.Device{MAC: device.MAC{2, 0, 0, 0, 0, 9}}))
	for text, want := range map[string]string{
		"users: [{name: '', role: user}]":                       "users[0].name",
		"users: [{name: a b, role: user}]":                      "without spaces",
		"users: [{name: admin, role: user}]":                    "administrator of password.user",
		"users: [{name: v, role: user}, {name: V, role: user}]": "is there twice",
		"users: [{name: v, role: viewer}]":                      "use administrator, operator or user",
		"users: [{name: v, role: user, password: secret}]":      "has no key",
		"password: {require_tls: maybe}":                        "require_tls",
	} {
		_, err := Parse([]byte(text))
		require.ErrorIs(t, err, sheet.ErrSheet, text)
		assert.ErrorContains(t, err, want)
	}
}

func TestASheetHasBounds(t *testing.T) {
	_, err := Parse([]byte("names:\n" + strings.Repeat("  C01: x\n", MaxLines+1)))
	require.ErrorIs(t, err, sheet.ErrSheet)
	assert.ErrorContains(t, err, "lines")
	dir := t.TempDir()
	require.NoError(t, os.Symlink("/dev/zero", filepath.Join(dir, "endless")))
	_, err = Read(filepath.Join(dir, "endless"))
	require.ErrorIs(t, err, intake.ErrRefused)
}
