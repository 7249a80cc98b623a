package survey

import (
	"context"
	"crypto/rand"
	"time"

	"janustat/core/lan"
	"janustat/internal/reach"
	"janustat/internal/speak/dhcp"
)

// serverAsks is how many DISCOVERs are sent, a second apart.
const serverAsks = 4

// OtherServers looks for DHCP servers on the wire, for four seconds, without
// taking a lease.
func OtherServers(ctx context.Context, n *reach.Net) ([]lan.Offer, error) {
	var id [4]byte
	_, _ = rand.Read(id[:]) // never fails (crypto/rand)
	heard := make(chan lan.Offer, 16)
	stop := n.Hear(func(h reach.Heard) {
		if d := h.Datagram; d != nil && d.To.Port() == dhcp.ClientPort && d.From.Port() == dhcp.ServerPort {
			if o, err := dhcp.ParseOffer(d.Payload, id); err == nil {
				select {
				case heard <- offerOf(d.MAC, o, h.At):
				default:
				}
			}
		}
	})
	defer stop()
	var found []lan.Offer
	for range serverAsks {
		if err := AskDHCP(n, id); err != nil {
			return found, err
		}
		for t := time.NewTimer(n.Pace.Of(time.Second)); t != nil; {
			select {
			case o := <-heard:
				known := false
				for _, f := range found {
					known = known || f.ServerMAC == o.ServerMAC
				}
				if !known {
					found = append(found, o)
				}
			case <-t.C:
				t = nil
			case <-n.Done():
				return found, n.Err()
			case <-ctx.Done():
				return found, ctx.Err()
			}
		}
	}
	return found, nil
}

// AskDHCP asks every DHCP server for an offer, which is not taken.
func AskDHCP(n *reach.Net, id [4]byte) error {
	ask, err := dhcp.Discover(n.Facts().MAC, id)
	if err != nil {
		return err
	}
	return n.SendBroadcast(dhcp.ClientPort, dhcp.ServerPort, ask)
}
