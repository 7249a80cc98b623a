package reach

import (
	"encoding/binary"
	"sync"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip/header"
)

// synAgain are the moments at which the first segment of a handshake is sent again
// while nothing answers it. TCP waits a second for an answer (RFC 6298, 2.1), since it
// knows nothing of the way; ours is one link, on which an answer takes milliseconds.
var synAgain = []time.Duration{150 * time.Millisecond, 450 * time.Millisecond}

// handshakes are the TCP handshakes of a path that wait for their first answer.
type handshakes struct {
	mu   sync.Mutex
	open map[[2]uint16]*time.Timer // by our port and theirs
}

// sent looks at what a path sends, and sends first segments again.
func (h *handshakes) sent(frame []byte, send func([]byte)) {
	t, ok := segmentOf(frame)
	if !ok || t.Flags()&(header.TCPFlagSyn|header.TCPFlagAck) != header.TCPFlagSyn {
		return
	}
	key := [2]uint16{t.SourcePort(), t.DestinationPort()}
	again := append([]byte(nil), frame...)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.open[key] != nil {
		return
	}
	if h.open == nil {
		h.open = map[[2]uint16]*time.Timer{}
	}
	round := 0
	var timer *time.Timer
	timer = time.AfterFunc(synAgain[0], func() {
		h.mu.Lock()
		waits := h.open[key] == timer
		if round++; waits && round == len(synAgain) {
			delete(h.open, key)
		} else if waits {
			timer.Reset(synAgain[round] - synAgain[round-1])
		}
		h.mu.Unlock()
		if waits {
			send(again)
		}
	})
	h.open[key] = timer
}

// heard ends the waiting of a handshake that was answered.
func (h *handshakes) heard(payload []byte) {
	if len(payload) < header.TCPMinimumSize {
		return
	}
	t := header.TCP(payload)
	key := [2]uint16{t.DestinationPort(), t.SourcePort()}
	h.mu.Lock()
	defer h.mu.Unlock()
	if timer := h.open[key]; timer != nil {
		timer.Stop()
		delete(h.open, key)
	}
}

// end gives up every handshake.
func (h *handshakes) end() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for key, timer := range h.open {
		timer.Stop()
		delete(h.open, key)
	}
}

// segmentOf gives the TCP segment in a frame that our own stack has made.
func segmentOf(frame []byte) (header.TCP, bool) {
	if ip, ok := ipv4Of(frame); ok {
		if ip.TransportProtocol() != header.TCPProtocolNumber || len(ip.Payload()) < header.TCPMinimumSize {
			return nil, false
		}
		return header.TCP(ip.Payload()), true
	}
	if len(frame) < etherLen || binary.BigEndian.Uint16(frame[12:]) != etherIPv6 {
		return nil, false
	}
	ip := header.IPv6(frame[etherLen:])
	if !ip.IsValid(len(ip)) || ip.NextHeader() != uint8(header.TCPProtocolNumber) || len(ip.Payload()) < header.TCPMinimumSize {
		return nil, false
	}
	return header.TCP(ip.Payload()), true
}
