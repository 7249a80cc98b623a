// Package arp codes ARP packets for IPv4 over Ethernet (RFC 826) and sweeps
// address ranges with them. It opens no socket: frames go out by a function.
package arp

import (
	"encoding/binary"
	"errors"
	"net/netip"

	"janustat/core/device"
)

// Op is the ARP operation (RFC 826, "ares_op$op").
type Op uint16

// The operations.
const (
	Request Op = 1
	Reply   Op = 2
)

// EtherType of ARP (RFC 826) and the sizes of a frame.
const (
	EtherType  = 0x0806
	headerLen  = 14
	packetLen  = 28
	minPayload = 46 // Ethernet pads shorter payloads (IEEE 802.3, 4A.2.3)
)

// ErrNotARP is returned for a frame that is not ARP for IPv4 over Ethernet.
var ErrNotARP = errors.New("not ARP for IPv4 over Ethernet")

// Packet is an ARP packet with the Ethernet addresses that carried it.
type Packet struct {
	From, To  device.MAC // of the frame
	Op        Op
	SenderMAC device.MAC
	Sender    netip.Addr // 0.0.0.0 in an ARP probe (RFC 5227, 1.1)
	TargetMAC device.MAC
	Target    netip.Addr
}

// Parse reads an Ethernet frame. Trailing padding is ignored.
func Parse(frame []byte) (Packet, error) {
	if len(frame) < headerLen+packetLen || binary.BigEndian.Uint16(frame[12:]) != EtherType {
		return Packet{}, ErrNotARP
	}
	b := frame[headerLen:]
	// Hardware type 1 (Ethernet), protocol type IPv4, address lengths 6 and 4.
	if binary.BigEndian.Uint16(b) != 1 || binary.BigEndian.Uint16(b[2:]) != 0x0800 || b[4] != 6 || b[5] != 4 {
		return Packet{}, ErrNotARP
	}
	p := Packet{
		From: device.MACFrom(frame[6:12]), To: device.MACFrom(frame[0:6]),
		Op:        Op(binary.BigEndian.Uint16(b[6:])),
		SenderMAC: device.MACFrom(b[8:14]), Sender: netip.AddrFrom4([4]byte(b[14:18])),
		TargetMAC: device.MACFrom(b[18:24]), Target: netip.AddrFrom4([4]byte(b[24:28])),
	}
	if p.Op != Request && p.Op != Reply {
		return Packet{}, ErrNotARP
	}
	return p, nil
}

// Frame gives the packet as a padded Ethernet frame. Sender and Target must be IPv4.
func (p Packet) Frame() []byte {
	f := make([]byte, headerLen+minPayload)
	copy(f[0:6], p.To[:])
	copy(f[6:12], p.From[:])
	binary.BigEndian.PutUint16(f[12:], EtherType)
	b := f[headerLen:]
	copy(b, []byte{0, 1, 8, 0, 6, 4})
	binary.BigEndian.PutUint16(b[6:], uint16(p.Op))
	copy(b[8:14], p.SenderMAC[:])
	copy(b[14:18], p.Sender.AsSlice())
	copy(b[18:24], p.TargetMAC[:])
	copy(b[24:28], p.Target.AsSlice())
	return f
}

// Probe asks whether an address is in use without claiming one (RFC 5227, 2.1.1):
// the sender address is all zero, so that no host's ARP cache changes.
func Probe(own device.MAC, target netip.Addr) Packet {
	return Packet{From: own, To: device.Broadcast, Op: Request, SenderMAC: own, Sender: netip.IPv4Unspecified(), Target: target}
}

// Ask asks for the holder of an address in the name of one of ours (RFC 826).
func Ask(own device.MAC, sender, target netip.Addr) Packet {
	p := Probe(own, target)
	p.Sender = sender
	return p
}

// ReplyTo answers a request for an address we hold.
func ReplyTo(p Packet, own device.MAC) Packet {
	return Packet{
		From: own, To: p.SenderMAC, Op: Reply,
		SenderMAC: own, Sender: p.Target, TargetMAC: p.SenderMAC, Target: p.Sender,
	}
}

// Announce claims an address (RFC 5227, 2.3).
func Announce(own device.MAC, address netip.Addr) Packet {
	return Packet{From: own, To: device.Broadcast, Op: Request, SenderMAC: own, Sender: address, Target: address}
}
