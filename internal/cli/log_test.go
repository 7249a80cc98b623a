package cli

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/lan"
	"janustat/internal/store"
)

func TestTheStoryIsToldInOrderAndInWords(t *testing.T) {
	t0 := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	at := func(s int) time.Time { return t0.Add(time.Duration(s) * time.Second) }
	d := &device.Device{FirstSeen: t0, MAC: device.MAC{2, 1}, Facts: device.Facts{Kind: device.Camera, Make: "Verrine", Model: "Dome 420"}}
	story := tellStory(d, []store.Entry{
		{Step: "key", Intent: "administrator admin", Begun: at(10), Ended: at(10), Outcome: "done"},
		{Step: "name", Intent: "Quay", Begun: at(11), Ended: at(11), Outcome: "refused", Detail: "too long"},
		{Step: "address", Intent: "10.61.8.41/23, DHCP off", Begun: at(12), Ended: at(16), Outcome: "unknown"},
		{Step: "restart", Intent: "to use the new address", Begun: at(40)},
		{Step: "rekey", Intent: "the password of admin", Begun: at(45), Ended: at(45), Outcome: "done"},
		{Step: "reset", Intent: "to the factory state", Begun: at(46), Ended: at(46), Outcome: "done"},
		{Step: "clock", Intent: "UTC now", Begun: at(50), Ended: at(53), Outcome: "done"},
	}, []store.Proof{
		{At: at(30), Checks: []byte(`[{"check":"clock","ok":false,"want":"within 2s","got":"9s off"},{"check":"name","ok":true}]`)},
		{At: at(60), OK: true},
	}, []lan.Lease{
		{MAC: d.MAC, Address: netip.MustParseAddr("10.61.8.41"), At: at(5), Until: at(3605)},
		{MAC: device.MAC{2, 9}, At: at(6)},
	}, []store.Try{
		{At: at(7), User: "admin", Origin: commission.FromEarlier, Outcome: store.TryRefused},
		{At: at(8), User: "admin", Outcome: store.TryFitted},
		{At: at(9), Outcome: store.TryLocked, Hold: 30 * time.Minute},
	}, nil)
	var texts []string
	var ok []bool
	for _, c := range story {
		texts, ok = append(texts, c.Text), append(ok, c.OK)
	}
	assert.Equal(t, []string{
		"first seen: camera Verrine Dome 420, MAC 02:01:00:00:00:00",
		"was leased 10.61.8.41 by this laptop, until " + at(3605).Local().Format("15:04"),
		"refused a password of earlier work for admin",
		"said that it is locked: nothing was offered to it for 30m0s",
		"first password set for its administrator admin",
		`name set to "Quay": the device refused: too long`,
		"moved to 10.61.8.41/23, DHCP off: no reply came, so whether it was carried out was looked for afterwards",
		"was not proved: clock should be within 2s, was 9s off",
		"restarted, to use the new address: cut short before the outcome was known; the next run looked for it",
		"the password of admin replaced",
		"reset to the factory state",
		"clock set to UTC now (took 3 s)",
		"was proved: every check passed",
	}, texts)
	assert.Equal(t, []bool{true, true, false, false, true, false, false, false, false, true, true, true, true}, ok)
}
