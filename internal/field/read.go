package field

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"janustat/core/device"
	"janustat/core/text"
	"janustat/internal/reach"
	"janustat/internal/secure"
	"janustat/internal/speak/onvif"
	"janustat/internal/speak/soap"
	"janustat/internal/speak/wsd"
)

func kindOf(types []wsd.Type, scopes wsd.Scopes, services []string) (device.Kind, bool) {
	return onvif.KindOf(types, scopes, services)
}

// speaksDevice reports whether a match is of the standard device service, by its types,
// its scopes or where it says the service is. Printers and the like speak discovery too,
// and are asked nothing more; one that says nothing at all of itself is.
func speaksDevice(m *wsd.Match) bool {
	if m == nil {
		return false
	}
	ours := func(t wsd.Type) bool {
		return strings.HasPrefix(t.Space, onvifSpace) || t.Space == "" && onvif.NamesDevice(t.Local)
	}
	return slices.ContainsFunc(m.Types, ours) ||
		slices.ContainsFunc(m.Scopes, func(s string) bool { return strings.HasPrefix(strings.ToLower(s), "onvif://") }) ||
		slices.ContainsFunc(m.XAddrs, func(x string) bool { return strings.HasSuffix(x, onvif.DefaultPath) }) ||
		len(m.Types)+len(m.Scopes) == 0
}

// onvifSpace begins the namespaces of the device standard's types.
const onvifSpace = "http://www.onvif.org/"

func plainHardware(s string) string { return strings.ReplaceAll(s, "_", " ") }

// ports of the device service where the device does not say.
const (
	httpPort   = 80
	httpsPort  = 443
	otherHTTPS = 8443
)

// place is where a device service is on a device.
type place struct {
	scheme string
	port   uint16
	path   string
}

// service gives the place as "[:port]path".
func (w place) service() string {
	if w.scheme == "http" && w.port == httpPort {
		return w.path
	}
	return fmt.Sprintf(":%d%s", w.port, w.path)
}

// placesOf gives where the device service is, out of a match's addresses, the
// plain ones first. Their host is not used: the device is met where it answered.
func placesOf(m *wsd.Match) []place {
	var plain, secure []place
	for _, x := range m.XAddrs {
		u, err := url.Parse(x)
		if err != nil || u.Path == "" {
			continue
		}
		w := place{u.Scheme, httpPort, u.EscapedPath()}
		if u.Scheme == "https" {
			w.port = httpsPort
		}
		if text := u.Port(); text != "" {
			port, err := strconv.ParseUint(text, 10, 16)
			if err != nil || port == 0 {
				continue
			}
			w.port = uint16(port)
		}
		switch u.Scheme {
		case "http":
			plain = append(plain, w)
		case "https":
			secure = append(secure, w)
		}
	}
	if len(plain)+len(secure) == 0 {
		return usualPlaces
	}
	return slices.Concat(plain, secure)
}

// securePlaces gives where the service may be over HTTPS: where the device says, at the
// well-known port, and at the other that is common if it is open.
func securePlaces(all []place, open []uint16) (out []place) {
	for _, w := range all {
		if w.scheme == "https" {
			out = append(out, w)
		}
	}
	for _, port := range []uint16{httpsPort, otherHTTPS} {
		w := place{"https", port, all[0].path}
		if !slices.Contains(out, w) && (port == httpsPort || slices.Contains(open, port)) {
			out = append(out, w)
		}
	}
	return out
}

// carrier carries HTTP and HTTPS over a path to one device.
type carrier struct {
	*http.Transport
	seen secure.Seen // of its encryption
}

// Patience with devices: small ones take seconds over a handshake.
const (
	handshakeLimit = 12 * time.Second
	headerLimit    = 12 * time.Second
)

// newCarrier makes a carrier, over which one certificate is shown or none.
func newCarrier(p *reach.Path) *carrier {
	c := &carrier{}
	c.Transport = &http.Transport{
		DialContext: func(ctx context.Context, _, address string) (net.Conn, error) {
			to, err := netip.ParseAddrPort(address)
			if err != nil {
				return nil, err
			}
			if onvif.Confidential(ctx) {
				return p.DialConfidential(ctx, to)
			}
			return p.Dial(ctx, to)
		},
		TLSClientConfig:     secure.Config(&c.seen),
		TLSHandshakeTimeout: handshakeLimit,
		DisableCompression:  true,
		MaxIdleConnsPerHost: 1,
		IdleConnTimeout:     5 * time.Second,
		// A device that takes the connection and says nothing must not hold the survey up.
		ResponseHeaderTimeout: headerLimit,
		// Nor one that says too much before it comes to the point.
		MaxResponseHeaderBytes: 64 << 10,
	}
	return c
}

// readDevice asks a device's service for what it tells without a password.
func readDevice(ctx context.Context, n *reach.Net, v *reach.Visitor, key hearing, m *wsd.Match) (device.Sighting, error) {
	path, err := n.Open(v, key.mac)
	if err != nil {
		return device.Sighting{}, err
	}
	defer path.Close()
	c := newCarrier(path)
	defer c.CloseIdleConnections()
	s, err := readBy(ctx, c, key, m)
	if err == nil {
		lookTLS(ctx, path, key.addr, m, &s.Facts)
	}
	return s, err
}

// How long a device may take to show that it speaks HTTPS: where it says that it does,
// and where it only might.
const (
	announcedLimit = 25 * time.Second
	tlsLook        = 8 * time.Second
)

// lookTLS looks whether the device service answers over HTTPS, and takes down what it
// finds. Nothing but the time is asked, which a device tells everyone. HTTPS that is
// announced, or whose port is open, is never taken for absent because it is slow.
func lookTLS(ctx context.Context, path *reach.Path, at netip.Addr, m *wsd.Match, f *device.Facts) {
	all := placesOf(m)
	var mute string
	for _, w := range securePlaces(all, f.Ports) {
		announced := len(m.XAddrs) > 0 && slices.Contains(all, w)
		limit := tlsLook
		if announced {
			limit = announcedLimit
		}
		tls, open, err := askTLS(ctx, path, at, w, limit)
		if to, led := ledTo(w, at, err); led {
			if to.scheme != "https" {
				continue // its service is without, by its own word
			}
			tls, open, err = askTLS(ctx, path, at, to, limit)
		}
		if err == nil {
			f.TLS, f.Ports = tls, append(f.Ports, w.port)
			return
		}
		var fault *soap.Fault
		if !announced && (!open || errors.As(err, &fault)) {
			continue // no such port, or other pages than the service
		}
		if open || announced {
			mute = fmt.Sprintf("port %d: %s", w.port, text.Harmless(err.Error(), text.Long, nil))
		}
	}
	if f.MuteTLS = mute; mute == "" {
		f.NoTLS = true
	}
}

// askTLS asks at one place. open tells whether the port takes connections.
func askTLS(ctx context.Context, path *reach.Path, at netip.Addr, w place, limit time.Duration) (t *device.TLS, open bool, err error) {
	ctx, cancel := context.WithTimeoutCause(ctx, limit, fmt.Errorf("no answer within %s", limit))
	defer cancel()
	c := newCarrier(path)
	defer c.CloseIdleConnections()
	dial := c.DialContext
	var connected atomic.Bool
	c.DialContext = func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := dial(ctx, network, address)
		if err == nil {
			connected.Store(true)
		}
		return conn, err
	}
	for {
		client := onvif.New("https", hostOf(at), w.service(), c)
		_, _, err = client.Clock(ctx)
		client.Close()
		switch {
		case err == nil:
			return &device.TLS{Port: w.port, Fingerprint: c.seen.Fingerprint(), Weak: c.seen.Weak()}, true, nil
		case ctx.Err() != nil:
			return nil, connected.Load(), context.Cause(ctx)
		case !connected.Load() || !errors.Is(err, onvif.ErrNoReply):
			return nil, connected.Load(), err
		}
		select { // it took the connection and was lost: once more
		case <-time.After(openEvery):
		case <-ctx.Done():
		}
	}
}

// readBy asks by way of rt, at the first place that answers as a device service does: the
// places that the device names, then the usual ones.
func readBy(ctx context.Context, rt http.RoundTripper, key hearing, m *wsd.Match) (s device.Sighting, err error) {
	all := placesOf(m)
	for _, usual := range usualPlaces {
		if !slices.Contains(all, usual) {
			all = append(all, usual)
		}
	}
	var first error
	led := 0
	for i := 0; i < len(all); i++ {
		if s, err = readAt(ctx, rt, key, m, all[i]); err == nil {
			return s, nil
		}
		if to, ok := ledTo(all[i], key.addr, err); ok && led < maxLed && !slices.Contains(all, to) {
			led++
			all = slices.Insert(all, i+1, to)
		}
		// What the device named itself, and what answered, tells most.
		if first == nil || errors.Is(first, onvif.ErrUnreachable) && !errors.Is(err, onvif.ErrUnreachable) {
			first = err
		}
		if ctx.Err() != nil {
			break
		}
	}
	return device.Sighting{}, first
}

// maxLed is how often a device may lead to another place of its own.
const maxLed = 4

// ledTo gives the place that a device leads to (RFC 9110, 15.4), where that is its own: another
// path or port of the address that it was asked at. To another host nobody is followed.
func ledTo(from place, at netip.Addr, err error) (place, bool) {
	var e *onvif.ElsewhereError
	if !errors.As(err, &e) || e.Location == "" {
		return place{}, false
	}
	base := url.URL{Scheme: from.scheme, Host: net.JoinHostPort(at.WithZone("").String(), strconv.Itoa(int(from.port))), Path: from.path}
	u, err := base.Parse(e.Location)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Path == "" {
		return place{}, false
	}
	if a, err := netip.ParseAddr(u.Hostname()); err != nil || a.WithZone("") != at.WithZone("") {
		return place{}, false
	}
	to := place{u.Scheme, map[string]uint16{"http": httpPort, "https": httpsPort}[u.Scheme], u.EscapedPath()}
	if u.Port() != "" {
		n, err := strconv.ParseUint(u.Port(), 10, 16)
		if err != nil || n == 0 {
			return place{}, false
		}
		to.port = uint16(n)
	}
	return to, true
}

// usualPlaces are where the device service is where a device names no place that answers.
var usualPlaces = []place{{"http", httpPort, onvif.DefaultPath}, {"https", httpsPort, onvif.DefaultPath}}

// ByService is what a sighting is by when the device's own service described it.
const ByService = "device service"

func readAt(ctx context.Context, rt http.RoundTripper, key hearing, m *wsd.Match, w place) (s device.Sighting, err error) {
	c := onvif.New(w.scheme, hostOf(key.addr), w.service(), rt)
	defer c.Close()
	f := device.Facts{Service: w.service(), Ports: []uint16{w.port}}
	if w.scheme == "https" {
		f.Service = w.path
	}
	if f.Access, err = c.Access(ctx); err != nil {
		return device.Sighting{}, err
	}
	services, err := c.Services(ctx)
	if fatal(err) {
		return device.Sighting{}, err
	}
	scopes := wsd.ReadScopes(m.Scopes)
	f.Kind, f.Indoor = kindOf(m.Types, scopes, services)
	f.Name, f.Model, f.Tongues = scopes.Name, plainHardware(scopes.Hardware), []device.Tongue{Standard}
	if err := readDetails(ctx, c, key.addr, key.mac, &f); err != nil {
		return device.Sighting{}, err
	}
	return device.Sighting{At: time.Now(), By: ByService, MAC: key.mac, Address: key.addr, Endpoint: m.Endpoint, Facts: f}, nil
}

// hostOf gives an address as it stands in a URL. An IPv6 link-local one needs no
// zone: the path it is reached by knows the link.
func hostOf(a netip.Addr) string {
	if a.Is6() {
		return "[" + a.WithZone("").String() + "]"
	}
	return a.String()
}

// readDetails fills in what the device tells; what it refuses stays empty.
func readDetails(ctx context.Context, c *onvif.Client, at netip.Addr, mac device.MAC, f *device.Facts) error {
	info, err := c.Information(ctx)
	if fatal(err) {
		return err
	}
	if err == nil {
		f.Make, f.Model, f.Firmware, f.Serial = info.Make, info.Model, info.Firmware, info.Serial
	}
	settings, macs, err := c.Network(ctx, at, mac)
	if fatal(err) {
		return err
	}
	// What it told before anything is written, from which a dry run goes.
	f.Writes = &device.Outlook{Partial: err != nil}
	if err == nil {
		f.OtherMAC = macs
		settings.Gateway, err = c.Gateway(ctx)
		if fatal(err) {
			return err
		}
		settings.Name = f.Name
		f.Settings = &settings
		if err := readOutlook(ctx, c, f); err != nil {
			return err
		}
	}
	if offset, _, err := c.Clock(ctx); err == nil {
		f.Writes.ClockS, f.Writes.ByNTP = offset.Seconds(), c.ByNTP()
		if zone, told := c.Zone(); told && f.Settings != nil {
			f.Settings.Zone = zone
		}
	} else if fatal(err) {
		return err
	}
	if f.Rules, err = c.Rules(ctx); fatal(err) {
		return err
	}
	return nil
}

// readOutlook reads the servers and the name that a device is set to.
func readOutlook(ctx context.Context, c *onvif.Client, f *device.Facts) error {
	dns, err := c.DNS(ctx)
	if fatal(err) {
		return err
	}
	ntp, err := c.NTP(ctx)
	if fatal(err) {
		return err
	}
	w, s := f.Writes, f.Settings
	w.DNS, w.DNSAuto, s.DNS = dns.Offered, dns.FromDHCP, dns.Addresses
	w.NTP, w.NTPAuto, s.NTP = ntp.Offered, ntp.FromDHCP, ntp.Addresses
	name, err := c.Name(ctx)
	if fatal(err) {
		return err
	}
	if err == nil {
		s.Name = name
	}
	return nil
}

// fatal tells an error of the conversation from a refusal by the device.
func fatal(err error) bool {
	return errors.Is(err, onvif.ErrUnreachable) || errors.Is(err, onvif.ErrNoReply)
}
