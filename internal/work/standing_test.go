package work

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/advice"
	"janustat/core/device"
)

func TestStandTellsWhatIsNextInTheOrderOfTheWork(t *testing.T) {
	at := time.Date(2026, 11, 25, 9, 0, 0, 0, time.UTC)
	there := &device.Settings{Address: netip.MustParseAddr("10.61.8.41"), Prefix: 23}
	fresh := device.Device{ID: 1, Tag: "C01", MAC: device.MAC{2, 0, 0, 0, 0, 1}, Facts: device.Facts{Kind: device.Camera, Access: device.Fresh}}
	taken := fresh
	taken.InJob = device.Taken
	allotted := taken
	allotted.Allotted = there
	left := allotted
	left.AsLeft = there
	reset := allotted
	reset.ResetAt = at
	proved := left
	proved.Proved = at
	require.True(t, left.Commissioned())
	for name, c := range map[string]struct {
		devices  []device.Device
		surveyed bool
		next     advice.Step
	}{
		"nothing yet":          {nil, false, advice.Step{Act: advice.Survey}},
		"surveyed":             {[]device.Device{fresh}, true, advice.Step{Act: advice.TakeAll}},
		"taken":                {[]device.Device{taken}, true, advice.Step{Act: advice.Allot}},
		"allotted":             {[]device.Device{allotted}, true, advice.Step{Act: advice.Commission}},
		"one of two is done":   {[]device.Device{left, allotted}, true, advice.Step{Act: advice.Commission}},
		"one was reset":        {[]device.Device{left, reset}, true, advice.Restore.On("C01")},
		"commissioned":         {[]device.Device{left}, true, advice.Step{Act: advice.Prove}},
		"proved":               {[]device.Device{proved}, true, advice.Step{Act: advice.Handover}},
		"what is left is left": {[]device.Device{proved, fresh}, true, advice.Step{Act: advice.Handover}},
	} {
		s := Stand(c.devices, c.surveyed)
		assert.Equal(t, c.next, s.Next, name)
		assert.Equal(t, len(c.devices), s.Known, name)
	}
}

func TestPassedByAreTheSitesOwnRecordersAndPanels(t *testing.T) {
	site := netip.MustParsePrefix("10.61.8.0/23")
	one := func(kind device.Kind, access device.Access, at string) device.Device {
		return device.Device{Facts: device.Facts{Kind: kind, Access: access}, Addresses: []netip.Addr{netip.MustParseAddr(at)}}
	}
	taken := one(device.Recorder, device.Sealed, "10.61.8.10")
	taken.InJob = device.Taken
	all := []device.Device{
		one(device.Recorder, device.Sealed, "10.61.8.11"), one(device.Panel, device.Sealed, "10.61.8.12"), taken,
		one(device.Camera, device.Sealed, "10.61.8.13"), one(device.Recorder, device.Fresh, "10.61.8.14"), one(device.Recorder, device.Sealed, "192.168.9.9"),
	}
	assert.Equal(t, all[:2], PassedBy(all, site))
	assert.Len(t, PassedBy(all, netip.Prefix{}), 3, "where the site is not known, everywhere is")
}
