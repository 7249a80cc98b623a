package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"janustat/core/device"
	"janustat/core/secret"
	"janustat/internal/job"
	"janustat/internal/reach"
	"janustat/internal/secure"
	"janustat/internal/speak/onvif"
	"janustat/internal/wire"
)

// password is what the plain way gives every device.
var password = secret.New("Harbour7-Wq-2x")

// plain sets devices up as a script of thirty lines would: so many at once, one call after the other,
// with no probe of the address, no journal, no budget of tries, no proof of who answers, and no
// second try of anything but the waiting for a restart.
func plain(ctx context.Context, folder, on string, lanes int) error {
	path, ok := strings.CutPrefix(on, "bench:")
	if !ok {
		return fmt.Errorf("--wire %q: it is for a bench's socket", on)
	}
	j, err := job.Open(ctx, folder)
	if err != nil {
		return err
	}
	defer j.Close()
	devices, err := j.Register.Devices(ctx)
	if err != nil {
		return err
	}
	w, err := wire.DialBench(path)
	if err != nil {
		return err
	}
	n := reach.New(w)
	defer n.Close()
	begun := time.Now()
	next := make(chan device.Device)
	var mu sync.Mutex
	done, failed := 0, map[string]int{}
	var wg sync.WaitGroup
	for range lanes {
		wg.Go(func() {
			for d := range next {
				err := setUp(ctx, n, d)
				mu.Lock()
				if err == nil {
					done++
				} else {
					failed[err.Error()[:min(60, len(err.Error()))]]++
				}
				mu.Unlock()
			}
		})
	}
	for _, d := range devices {
		if d.Allotted != nil && d.Service != "" {
			next <- d
		}
	}
	close(next)
	wg.Wait()
	fmt.Printf("%d done, %d failed in %.1f s\n", done, len(failed), time.Since(begun).Seconds())
	for why, count := range failed {
		fmt.Printf("  %d × %s\n", count, why)
	}
	return nil
}

// around is a subnet to speak from.
func around(a netip.Addr) netip.Prefix { return netip.PrefixFrom(a, 24).Masked() }

func setUp(ctx context.Context, n *reach.Net, d device.Device) error {
	c, end, err := speak(ctx, n, d, d.Address())
	if err != nil {
		return err
	}
	_, _, err = c.Clock(ctx)
	if err == nil {
		_, err = c.Access(ctx)
	}
	if err == nil {
		_, err = readAll(ctx, c, d, d.Address())
	}
	if err == nil {
		err = c.CreateAdministrator(ctx, "admin", password)
	}
	if err == nil {
		_, err = c.Enter(ctx, "admin", password)
	}
	if err == nil {
		_, err = c.SetClock(ctx)
	}
	if err == nil && d.Tag != "" {
		err = c.SetName(ctx, d.Tag)
	}
	restart := false
	if err == nil {
		restart, err = c.SetAddress(ctx, device.Settings{Address: d.Allotted.Address, Prefix: d.Allotted.Prefix})
	}
	if err == nil && restart {
		err = c.Restart(ctx)
	}
	end()
	if err != nil {
		return err
	}
	for limit := time.Now().Add(time.Minute); ; time.Sleep(200 * time.Millisecond) {
		c, end, err = speak(ctx, n, d, d.Allotted.Address)
		if err == nil {
			if _, _, err = c.Clock(ctx); err == nil {
				break
			}
			end()
		}
		if time.Now().After(limit) {
			return err
		}
	}
	defer end()
	if ok, err := c.Enter(ctx, "admin", password); err != nil || !ok {
		return errors.Join(err, errors.New("not opened"))
	}
	s, err := readAll(ctx, c, d, d.Allotted.Address)
	if err == nil && s.Address != d.Allotted.Address {
		err = errors.New("not where it should be")
	}
	return err
}

func readAll(ctx context.Context, c *onvif.Client, d device.Device, at netip.Addr) (device.Settings, error) {
	var fault error
	note := func(err error) {
		if errors.Is(err, onvif.ErrNoReply) || errors.Is(err, onvif.ErrUnreachable) {
			fault = err
		}
	}
	_, err := c.Information(ctx)
	note(err)
	s, _, err := c.Network(ctx, at, d.MAC)
	note(err)
	_, err = c.Gateway(ctx)
	note(err)
	_, err = c.Name(ctx)
	note(err)
	_, err = c.DNS(ctx)
	note(err)
	_, err = c.NTP(ctx)
	note(err)
	return s, fault
}

// speak begins a conversation with a device at an address.
func speak(ctx context.Context, n *reach.Net, d device.Device, at netip.Addr) (*onvif.Client, func(), error) {
	v, err := n.Visit(ctx, around(at), at, nil)
	if err != nil {
		return nil, nil, err
	}
	path, err := n.Open(v, d.MAC)
	if err != nil {
		return nil, nil, err
	}
	var seen secure.Seen
	t := &http.Transport{
		DialContext: func(ctx context.Context, _, address string) (net.Conn, error) {
			to, err := netip.ParseAddrPort(address)
			if err != nil {
				return nil, err
			}
			return path.Dial(ctx, to)
		},
		TLSClientConfig: secure.Config(&seen),
	}
	c := onvif.New("http", at.String(), d.Service, t)
	if d.TLS != nil {
		c = onvif.New("https", at.String(), fmt.Sprintf(":%d%s", d.TLS.Port, d.Service[strings.IndexByte(d.Service, '/'):]), t)
	}
	return c, func() { t.CloseIdleConnections(); path.Close() }, nil
}
