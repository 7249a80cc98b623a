package bench

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"time"
)

// orders are what a running bench does by command.
const orders = "unplug DEVICE, plug DEVICE, restart DEVICE, reset DEVICE, cable out, cable in, devices"

// Do is a pair of hands at the site: a device is unplugged, plugged in, restarted or reset, or the
// clients' cable pulled. It gives what there is to say.
func (b *Bench) Do(order string) (string, error) {
	words := strings.Fields(order)
	if len(words) == 1 && words[0] == "devices" {
		var out []string
		for _, d := range b.devices {
			out = append(out, d.unit.ID)
		}
		slices.Sort(out)
		return strings.Join(out, " "), nil
	}
	if len(words) != 2 {
		return "", fmt.Errorf("%q: use %s", order, orders)
	}
	if words[0] == "cable" {
		switch words[1] {
		case "out", "in":
			b.Pull(words[1] == "out")
			return "the cable is " + words[1], nil
		}
		return "", fmt.Errorf("%q: use cable out or cable in", order)
	}
	at := slices.IndexFunc(b.devices, func(d *Device) bool { return d.unit.ID == words[1] || d.unit.MAC == words[1] })
	if at < 0 {
		return "", fmt.Errorf("there is no device %q: `devices` lists them", words[1])
	}
	d := b.devices[at]
	switch words[0] {
	case "unplug":
		d.Unplug()
	case "plug":
		d.Plug()
	case "restart":
		d.Restart()
	case "reset":
		d.Reset()
	default:
		return "", fmt.Errorf("%q: use %s", order, orders)
	}
	return d.unit.ID + ": " + words[0] + " done", nil
}

// maxOrder bounds an order, in bytes; orderTime how long one may take to be said.
const (
	maxOrder  = 200
	orderTime = 5 * time.Second
)

// TakeOrders carries out what is said on a socket, one order for each connection, until ctx ends.
func (b *Bench) TakeOrders(ctx context.Context, l net.Listener) error {
	stop := context.AfterFunc(ctx, func() { l.Close() })
	defer stop()
	for {
		c, err := l.Accept()
		switch {
		case ctx.Err() != nil:
			return nil
		case err != nil:
			return fmt.Errorf("bench orders: %w", err)
		}
		go func() {
			defer c.Close()
			_ = c.SetDeadline(time.Now().Add(orderTime))
			line, err := bufio.NewReader(io.LimitReader(c, maxOrder)).ReadString('\n')
			if err != nil && !errors.Is(err, io.EOF) {
				return
			}
			said, err := b.Do(strings.TrimSpace(line))
			if err != nil {
				said = "error: " + err.Error()
			}
			_, _ = fmt.Fprintln(c, said) // whoever asked may be gone
		}()
	}
}

// Order has a running bench do something, by the socket of its orders.
func Order(ctx context.Context, socket, order string) (string, error) {
	var d net.Dialer
	c, err := d.DialContext(ctx, "unix", socket)
	if err != nil {
		return "", fmt.Errorf("no bench takes orders there: %w", err)
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(orderTime))
	if _, err := fmt.Fprintln(c, order); err != nil {
		return "", err
	}
	out, err := io.ReadAll(io.LimitReader(c, 64<<10))
	if err != nil {
		return "", err
	}
	said := strings.TrimSpace(string(out))
	if text, bad := strings.CutPrefix(said, "error: "); bad {
		return "", errors.New(text)
	}
	return said, nil
}
