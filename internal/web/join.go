package web

import (
	"context"
	"io"
	"log/slog"
	"net"
)

// join carries bytes both ways until both sides are done, or ctx ends.
func join(ctx context.Context, c net.Conn, d *Device, port uint16, log *slog.Logger) {
	defer c.Close()
	far, err := d.Dial(ctx, port)
	if err != nil {
		log.Warn("not connected", "device", d.Label, "port", port, "err", err)
		return
	}
	defer far.Close()
	stop := context.AfterFunc(ctx, func() { c.Close(); far.Close() })
	defer stop()
	done := make(chan struct{}, 2)
	carry := func(to, from net.Conn) {
		_, _ = io.Copy(to, from) // either end may close at any time
		if half, ok := to.(interface{ CloseWrite() error }); ok {
			_ = half.CloseWrite()
		}
		done <- struct{}{}
	}
	go carry(far, c)
	go carry(c, far)
	<-done
	<-done
}
