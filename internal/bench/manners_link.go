package bench

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strings"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip/header"

	"janustat/core/device"
	"janustat/internal/speak/arp"
)

// Manners of the link and of discovery, that others look for by name.
const (
	announcesNothing = "announces nothing"
	answersAll       = "answers all"
	otherPort        = "other port"
	seldomAnswers    = "seldom answers"
	deafToGroups     = "deaf to groups"
)

// ipv4In gives the IPv4 packet of a frame, nil where it has none.
func ipv4In(frame []byte) header.IPv4 {
	if len(frame) < header.EthernetMinimumSize+header.IPv4MinimumSize || header.Ethernet(frame).Type() != header.IPv4ProtocolNumber {
		return nil
	}
	return header.IPv4(frame[header.EthernetMinimumSize:])
}

func theSame(frame []byte) [][]byte { return [][]byte{frame} }

// linkManners are those of frames and of discovery.
var linkManners = map[string]manner{
	announcesNothing: {stands: "RFC 5227, 2.3: announcing is a SHOULD of later hosts", weight: 2, group: "frames"},
	"padded frames": {
		stands: "IEEE 802.3: short frames are padded; seen: with what was there before", weight: 1, group: "frames",
		frames: func(frame []byte) [][]byte {
			if len(frame) < 60 {
				frame = append(bytes.Clone(frame), bytes.Repeat([]byte{0xa5}, 60-len(frame))...)
			}
			return theSame(frame)
		},
	},
	"priority tags": {
		stands: "IEEE 802.1Q, 6.9: frames with a priority, of no VLAN", weight: 2, group: "frames",
		frames: func(frame []byte) [][]byte {
			if len(frame) < header.EthernetMinimumSize {
				return theSame(frame)
			}
			tagged := append(bytes.Clone(frame[:12]), 0x81, 0x00, 0xa0, 0x00)
			return theSame(append(tagged, frame[12:]...))
		},
	},
	"doubled frames": {
		stands: "practice: a loop or a mirror, every frame twice", weight: 2, group: "frames",
		frames: func(frame []byte) [][]byte { return [][]byte{frame, frame} },
	},
	"replies to all": {
		stands: "RFC 5227, 2.6: ARP replies by broadcast", weight: 1, group: "frames",
		frames: func(frame []byte) [][]byte {
			if p, err := arp.Parse(frame); err == nil && p.Op == arp.Reply {
				frame = bytes.Clone(frame)
				copy(frame, device.Broadcast[:])
			}
			return theSame(frame)
		},
	},
	"no echo": {
		stands: "practice: a filter that drops ICMP", weight: 2, group: "frames",
		frames: func(frame []byte) [][]byte {
			if p := ipv4In(frame); p != nil && p.TransportProtocol() == header.ICMPv4ProtocolNumber {
				return nil
			}
			return theSame(frame)
		},
	},
	"no UDP checksums": {
		stands: "RFC 768: a checksum of zero is none", weight: 1, group: "frames",
		frames: func(frame []byte) [][]byte {
			if p := ipv4In(frame); p != nil && p.TransportProtocol() == header.UDPProtocolNumber && p.FragmentOffset() == 0 && len(p) > int(p.HeaderLength())+header.UDPMinimumSize && !p.More() {
				frame = bytes.Clone(frame)
				at := header.EthernetMinimumSize + int(p.HeaderLength())
				binary.BigEndian.PutUint16(frame[at+6:], 0)
			}
			return theSame(frame)
		},
	},
	answersAll:    {stands: "practice: matches go to the group", weight: 1, group: "discovery"},
	otherPort:     {stands: "SOAP-over-UDP 1.1, 3: answers may come from another port", weight: 2, group: "discovery"},
	deafToGroups:  {stands: "seen: a packet filter drops what is sent to everybody"},
	seldomAnswers: {stands: "practice: two of three questions are lost", weight: 2, group: "discovery"},
	"several matches": {
		stands: "WS-Discovery 2005/04, 5.3: several matches in one answer", weight: 1, group: "discovery",
		match: func(_ *targetService, answer *node) {
			other := el(wsdNS, "ProbeMatch", el(wsaNS, "EndpointReference", el(wsaNS, "Address", "urn:uuid:00000000-0000-4000-8000-00000000beef")),
				qnames(wsdNS, "Types", [2]string{"urn:example:print", "Spooler"}), el(wsdNS, "MetadataVersion", 1))
			if answer.name == "ProbeMatches" {
				answer.kids = append(answer.kids, other)
			}
		},
	},
	"addresses of the past": {
		stands: "seen: XAddrs name an address that it had before", weight: 2, group: "discovery",
		match: func(t *targetService, answer *node) {
			answer.each("XAddrs", func(n *node) { n.text = strings.ReplaceAll(n.text, t.host.address().String(), "198.18.7.7") })
		},
	},
	"many addresses": {
		stands: "WS-Discovery 2005/04, 5.3: a list of addresses, IPv6 first", weight: 1, group: "discovery",
		match: func(t *targetService, answer *node) {
			answer.each("XAddrs", func(n *node) {
				n.text = fmt.Sprintf("http://[%s]/onvif/device_service http://device.local/onvif/device_service %s", linkLocal6(t.host.mac), n.text)
			})
		},
	},
	"no scopes": {
		stands: "WS-Discovery 2005/04, 5.3: Scopes are optional", weight: 1, group: "discovery",
		match: func(_ *targetService, answer *node) { answer.remove("Scopes") },
	},
	"bare endpoint": {
		stands: "seen: an endpoint reference without urn:", weight: 1, group: "discovery", needs: func(m Model) bool { return !m.NoXAddrs },
		match: func(_ *targetService, answer *node) {
			answer.each("Address", func(n *node) { n.text = strings.TrimPrefix(n.text, "urn:") })
		},
	},
}

// twiceAfter is how long after its start a device starts again that starts twice.
const twiceAfter = 2 * time.Second
