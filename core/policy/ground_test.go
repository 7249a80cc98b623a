package policy

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"janustat/core/device"
	"janustat/core/sheet"
)

// TestARecorderThatThisJobHasOpened repeats its factory's address, or our own decision: it does
// not keep that for the sake of those that are matched to it, as one does that others had set up.
func TestARecorderThatThisJobHasOpened(t *testing.T) {
	at := netip.MustParseAddr("192.168.100.2")
	devices := []device.Device{{
		ID: 7, Tag: "R01", InJob: device.Taken,
		Addresses: []netip.Addr{at}, Facts: device.Facts{Kind: device.Recorder, Access: device.Keyed, Settings: &device.Settings{Address: at, Prefix: 24}},
	}}
	ask := Asking{
		Again: func(*device.Device) bool { return false }, Renumber: func(*device.Device) bool { return false },
		Begun: func(*device.Device) bool { return false }, Named: func(*device.Device) netip.Addr { return netip.Addr{} },
	}
	assert.True(t, Requests(devices, ask)[0].Keep, "others have set it up")
	ask.Keyed = map[int64]bool{7: true}
	assert.False(t, Requests(devices, ask)[0].Keep)
}

func TestWhatDHCPWasSeenToGiveIsNotAllotted(t *testing.T) {
	at := netip.MustParseAddr
	leased := device.Device{Tag: "C01", InJob: device.Taken, Facts: device.Facts{Settings: &device.Settings{Address: at("10.61.8.50"), DHCP: true}}}
	asked := device.Device{Tag: "C02", InJob: device.Taken, Facts: device.Facts{Asks: &device.DHCPClient{Wants: at("10.61.8.51")}}}
	ours := leased
	ours.Tag, ours.Settings = "C03", &device.Settings{Address: at("10.61.8.52"), DHCP: true}
	ours.Allotted = &device.Settings{Address: at("10.61.8.52")}
	got := Reserved(&sheet.Sheet{}, Heard{}, []device.Device{leased, asked, ours})
	why := map[string]string{}
	for _, r := range got {
		why[r.Range.String()] = r.Why
	}
	assert.Equal(t, map[string]string{"10.61.8.50": "leased by DHCP to C01", "10.61.8.51": "leased by DHCP to C02"}, why)
}
