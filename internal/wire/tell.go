package wire

import (
	"bytes"
	"fmt"
	"log/slog"
	"strings"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"

	"janustat/core/text"
)

// teller tells a log what goes over a wire, a line a frame.
type teller struct {
	Wire
	log *slog.Logger
}

// Tell has a log told what is sent and heard on a wire: who asks for whom, and what is said
// in the open to all. Of connections only the beginning and a refusal are told, and of our
// own sweeps nothing; what is said in them is for those who speak.
func Tell(w Wire, log *slog.Logger) Wire { return &teller{w, log} }

// Under gives the wire that is told of.
func (t *teller) Under() Wire { return t.Wire }

// Read implements Wire.
func (t *teller) Read() ([]byte, error) {
	frame, err := t.Wire.Read()
	if err == nil {
		t.tell("heard", frame)
	}
	return frame, err
}

// Write implements Wire.
func (t *teller) Write(frame []byte) error {
	err := t.Wire.Write(frame)
	if !isRequest(frame) { // of a sweep
		t.tell("sent", frame)
	}
	return err
}

func (t *teller) tell(what string, frame []byte) {
	if s := summary(frame); s != "" {
		t.log.Debug(what, "frame", text.Harmless(s, text.Long, nil))
	}
}

func isRequest(frame []byte) bool {
	return len(frame) >= ethernetHeader+8 && frame[12] == 0x08 && frame[13] == 0x06 && frame[ethernetHeader+7] == 1
}

// summary tells what a frame is, "" of those that are not told.
func summary(frame []byte) string {
	p := gopacket.NewPacket(frame, layers.LayerTypeEthernet, gopacket.DecodeOptions{Lazy: true, NoCopy: true})
	eth, ok := p.LinkLayer().(*layers.Ethernet)
	if !ok {
		return ""
	}
	who := eth.SrcMAC.String()
	if a, ok := p.Layer(layers.LayerTypeARP).(*layers.ARP); ok && len(a.SourceProtAddress) == 4 && len(a.DstProtAddress) == 4 {
		if a.Operation == layers.ARPRequest {
			return fmt.Sprintf("%s ARP: who has %s, says %s", who, address(a.DstProtAddress), address(a.SourceProtAddress))
		}
		return fmt.Sprintf("%s ARP: %s is here", who, address(a.SourceProtAddress))
	}
	n := p.NetworkLayer()
	if n == nil {
		return ""
	}
	from, to := n.NetworkFlow().Endpoints()
	way := fmt.Sprintf("%s %s → %s", who, from, to)
	if tcp, ok := p.Layer(layers.LayerTypeTCP).(*layers.TCP); ok {
		switch {
		case tcp.SYN && !tcp.ACK:
			return fmt.Sprintf("%s TCP: connects to port %d", way, uint16(tcp.DstPort))
		case tcp.RST:
			return fmt.Sprintf("%s TCP: port %d refuses", way, uint16(tcp.SrcPort))
		}
		return ""
	}
	if udp, ok := p.Layer(layers.LayerTypeUDP).(*layers.UDP); ok {
		return fmt.Sprintf("%s UDP %d → %d: %s", way, uint16(udp.SrcPort), uint16(udp.DstPort), datagram(udp))
	}
	for _, l := range p.Layers() {
		switch l.LayerType() {
		case layers.LayerTypeIGMP, layers.LayerTypeICMPv4, layers.LayerTypeICMPv6:
			return way + " " + l.LayerType().String()
		}
	}
	return ""
}

func address(b []byte) string { return fmt.Sprintf("%d.%d.%d.%d", b[0], b[1], b[2], b[3]) }

// datagram tells what a datagram says, by its port.
func datagram(u *layers.UDP) string {
	has := func(port layers.UDPPort) bool { return u.SrcPort == port || u.DstPort == port }
	switch {
	case has(67) || has(68):
		p := gopacket.NewPacket(u.Payload, layers.LayerTypeDHCPv4, gopacket.Default)
		if d, ok := p.Layer(layers.LayerTypeDHCPv4).(*layers.DHCPv4); ok {
			for _, o := range d.Options {
				if o.Type == layers.DHCPOptMessageType && len(o.Data) == 1 {
					return "DHCP " + layers.DHCPMsgType(o.Data[0]).String() + " of " + d.ClientHWAddr.String()
				}
			}
		}
		return "DHCP"
	case has(3702):
		for _, kind := range []string{"ProbeMatches", "ResolveMatches", "Probe", "Resolve", "Hello", "Bye"} {
			if bytes.Contains(u.Payload, []byte("discovery/"+kind)) {
				return "WS-Discovery " + kind
			}
		}
		return "WS-Discovery"
	case has(5353):
		return "mDNS"
	case has(1900):
		first, _, _ := strings.Cut(string(u.Payload), "\r\n")
		return "SSDP " + first
	case bytes.HasPrefix(u.Payload, []byte("HAIL")):
		return "Hail"
	}
	return fmt.Sprintf("%d octets", len(u.Payload))
}
