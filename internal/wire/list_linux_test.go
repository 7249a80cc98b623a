package wire

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestDefaultGateway(t *testing.T) {
	table := []byte("Iface\tDestination\tGateway\tFlags\neth0\t0008A80A\t00000000\t0001\neth0\t00000000\t01083D0A\t0003\neth1\t00000000\tzz\t0003\n")
	assert.Equal(t, netip.MustParseAddr("10.61.8.1"), defaultGateway(table, "eth0"))
	assert.False(t, defaultGateway(table, "eth1").IsValid())
}

func TestATagTheKernelTookOffIsPutBack(t *testing.T) {
	frame := append(make([]byte, 12), 0x08, 0x06, 1, 2)
	aux := make([]byte, auxSpace)
	// struct cmsghdr, then struct tpacket_auxdata, as packet(7) has them.
	copy(aux, []byte{byte(16 + auxLen), 0, 0, 0, 0, 0, 0, 0, 7, 1, 0, 0, 8, 0, 0, 0})
	data := aux[16:]
	data[0] = auxVLANValid | auxVLANTypeValid
	data[16], data[17], data[18], data[19] = 20, 0, 0x00, 0x81
	want := append(append(make([]byte, 12), 0x81, 0, 0, 20), 0x08, 0x06, 1, 2)
	assert.Equal(t, want, restoreTag(frame, aux))
	data[0] = 0
	assert.Len(t, restoreTag(append(make([]byte, 12), 0x08, 0x06), aux), 14, "an untagged frame stays as it is")
}
