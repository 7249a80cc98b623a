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

func TestSetApartAreThoseNobodyHasDecidedAbout(t *testing.T) {
	one := func(kind device.Kind, why string, choice device.Choice) device.Device {
		return device.Device{Facts: device.Facts{Kind: kind}, SetUpBy: why, InJob: choice}
	}
	all := []device.Device{one(device.Camera, `called "Till"`, ""), one(device.Recorder, "protected", ""), one(device.Recorder, "protected", device.Left), one(device.Camera, "", "")}
	assert.Equal(t, []device.Device{all[1], all[0]}, SetApart(all))
}
