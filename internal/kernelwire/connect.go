package kernelwire

import (
	"errors"
	"io"
	"net"
	"net/netip"
	"strconv"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"
	"gvisor.dev/gvisor/pkg/waiter"
)

const (
	maxWaiting = 1024             // connections that are being made
	connectIn  = 10 * time.Second // longer is given up by who asked
)

// connect makes a connection by the kernel, and ties the two ends together.
func (w *Wire) connect(r *tcp.ForwarderRequest) {
	id := r.ID()
	to, _ := netip.AddrFromSlice(id.LocalAddress.AsSlice())
	w.work.Go(func() {
		d := net.Dialer{Timeout: connectIn}
		far, err := d.DialContext(w.ctx, "tcp4", net.JoinHostPort(to.String(), strconv.Itoa(int(id.LocalPort))))
		if err != nil {
			// A port that is shut says so; who does not answer is silent.
			r.Complete(errors.Is(err, refusedError))
			return
		}
		defer far.Close()
		var q waiter.Queue
		ep, terr := r.CreateEndpoint(&q)
		r.Complete(terr != nil)
		if terr != nil {
			return
		}
		near := gonet.NewTCPConn(&q, ep)
		defer near.Close()
		done := make(chan struct{}, 2)
		splice := func(to, from net.Conn) {
			_, _ = io.Copy(to, from) // however it ends, the other end is told
			if c, ok := to.(interface{ CloseWrite() error }); ok {
				_ = c.CloseWrite()
			}
			done <- struct{}{}
		}
		go splice(far, near)
		go splice(near, far)
		for ended := 0; ended < 2; ended++ {
			select {
			case <-done:
			case <-w.ctx.Done():
				return
			}
		}
	})
}
