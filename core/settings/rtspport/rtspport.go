// Package rtspport is the port at which a device plays its picture. Where a router forwards ports
// from outside, each camera needs one of its own.
package rtspport

import (
	"context"
	"encoding/binary"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"janustat/core/setting"
)

// Name is that of the setting.
const Name setting.Name = "rtsp port"

// Keeper is the ability to play at another port (RFC 2326, 3.2: 554 is the usual one).
type Keeper interface {
	// RTSPPort gives it; told is false where the device does not say.
	RTSPPort(ctx context.Context) (port uint16, told bool, err error)
	SetRTSPPort(ctx context.Context, port uint16) error
}

// read takes what the sheet says apart: one port for all, or a base to which the host's number is added.
func read(said string) (port uint16, each bool, err error) {
	digits, each := strings.CutSuffix(strings.TrimSpace(said), "+")
	n, err := strconv.ParseUint(digits, 10, 16)
	if err != nil || n == 0 {
		return 0, false, fmt.Errorf("%q: write a port, as 554, or a base for a port of its own each, as 5000+", said)
	}
	switch {
	case !each && (n == 80 || n == 443):
		return 0, false, fmt.Errorf("%q is the port of its pages", said)
	case each && (n < 1024 || n > maxBase):
		return 0, false, fmt.Errorf("%q: take a base from 1024 to %d, to which the number of an address is added", said, maxBase)
	}
	return uint16(n), each, nil
}

// maxBase leaves room for the 4094 hosts of a /20.
const maxBase = 61_000

// number is that of a host in its subnet: 41 of 10.61.8.41/24.
func number(at netip.Prefix) uint32 {
	a := at.Addr().As4()
	return binary.BigEndian.Uint32(a[:]) & (1<<(32-at.Bits()) - 1)
}

// Setting is the port.
var Setting = setting.Setting{
	Name: Name, Title: "RTSP port", Told: "RTSP port set to %s", Head: "rtsp",
	Holds: "it plays at the port that the job sheet says",
	Key:   "ports.rtsp", Form: "a port, as `554`; or `5000+`: 5000 and the number of its address in the subnet, so that 10.61.8.41 gets 5041",
	Meaning: "where cameras and door stations play their pictures: for routers that forward a port to each", Otherwise: "each keeps its own",
	Check: func(said string) error {
		_, _, err := read(said)
		return err
	},
	Wanted: func(said string, d setting.Device) (string, error) {
		port, each, err := read(said)
		if err != nil || !d.Camera || !d.Address.Addr().Is4() {
			return "", nil
		}
		n := uint32(port)
		if each {
			n += number(d.Address)
		}
		if n > 65535 {
			return "", fmt.Errorf("%s and the number of %s in its subnet make %d: ports end at 65535. Take a lower base", said, d.Address.Addr(), n)
		}
		return strconv.FormatUint(uint64(n), 10), nil
	},
	Settles: 20 * time.Second,
	Read: func(ctx context.Context, conversation any) (string, bool, error) {
		k, ok := conversation.(Keeper)
		if !ok {
			return "", false, nil
		}
		port, told, err := k.RTSPPort(ctx)
		return strconv.Itoa(int(port)), told, err
	},
	Set: func(ctx context.Context, conversation any, value string) error {
		k, err := setting.Able[Keeper](conversation, "RTSP port")
		if err != nil {
			return err
		}
		port, err := strconv.ParseUint(value, 10, 16)
		if err != nil {
			return err
		}
		return k.SetRTSPPort(ctx, uint16(port))
	},
}
