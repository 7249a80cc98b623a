package lan

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"janustat/core/device"
)

// Devices that share one address, as new ones of a maker do, claim it in turn for as long as
// they are asked: none of them grasps.
func TestHostsThatShareAnAddressDoNotGrasp(t *testing.T) {
	c := NewClaims()
	for i := range 200 {
		c.Hear(device.MAC{2, 0, 0, 0, 0, byte(i % 3)}, at("192.168.77.20"))
	}
	for i := range 3 {
		assert.False(t, c.Grasps(device.MAC{2, 0, 0, 0, 0, byte(i)}))
	}
	assert.True(t, c.Taken(at("192.168.77.20")))
	assert.Empty(t, c.Graspers([]netip.Prefix{net("192.168.77.0/24")}))
}

// A host that claims more than it can have takes no address from one that has its own, and its
// word alone keeps none from being used.
func TestAGrasperTakesNothing(t *testing.T) {
	c := NewClaims()
	honest, loud := device.MAC{2, 1}, device.MAC{2, 2}
	c.Hear(honest, at("10.61.8.5"))
	a := at("10.61.8.1")
	for range MaxOwn + 1 {
		c.Hear(loud, a)
		a = a.Next()
	}
	c.Hear(honest, at("10.61.8.5"))
	c.Hear(loud, at("10.61.8.5"))
	assert.True(t, c.Grasps(loud))
	assert.True(t, c.Taken(at("10.61.8.5")))
	assert.False(t, c.Taken(at("10.61.8.6")))
	mac, claimed := c.Holder(at("10.61.8.6"))
	assert.True(t, claimed)
	assert.Equal(t, loud, mac)
	for range 5 * MaxClaims {
		c.Hear(loud, a)
		a = a.Next()
	}
	assert.LessOrEqual(t, len(c.holder), MaxClaims+1, "one host's claims are bounded")
}
