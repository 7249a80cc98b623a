package standard

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
	"time"

	"janustat/core/device"
	"janustat/internal/authority"
	"janustat/internal/reach"
	"janustat/internal/secure"
	"janustat/internal/speak/onvif"
	"janustat/internal/speak/soap"
	"janustat/internal/speak/wsd"
)

func KindOf(types []wsd.Type, scopes wsd.Scopes, services []string) (device.Kind, bool) {
	return onvif.KindOf(types, scopes, services)
}

// speaksDevice reports whether a match is of the standard device service, by its types,
// its scopes or where it says the service is. Printers and the like speak discovery too,
// and are asked nothing more; one that says nothing at all of itself is.
func Speaks(m *wsd.Match) bool {
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

func PlainHardware(s string) string { return strings.ReplaceAll(s, "_", " ") }

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

// Host is a device as it was met: by its MAC, at an address.
type Host struct {
	MAC  device.MAC
	Addr netip.Addr
	Met  Met
}

// Met is where a device's service was met before, beside the usual ports; zero is nowhere else.
type Met struct{ HTTP, HTTPS uint16 }

// places are those, and then the usual ones.
func (m Met) places() (out []place) {
	if m.HTTP != 0 {
		out = append(out, place{"http", m.HTTP, onvif.DefaultPath})
	}
	if m.HTTPS != 0 {
		out = append(out, place{"https", m.HTTPS, onvif.DefaultPath})
	}
	return append(out, usualPlaces...)
}

// Read asks a device's service for what it tells without a password. root is that of the site's
// authority, nil where it has none.
func Read(ctx context.Context, n *reach.Net, v *reach.Visitor, key Host, m *wsd.Match, root *authority.Root) (device.Sighting, error) {
	path, err := n.Open(v, key.MAC)
	if err != nil {
		return device.Sighting{}, err
	}
	defer path.Close()
	c := newCarrier(path)
	defer c.CloseIdleConnections()
	s, err := ReadBy(ctx, c, key, m)
	if err == nil {
		lookTLS(ctx, path, key, m, vouchingFor(root, key.MAC), &s.Facts)
	}
	return s, err
}

// ReadBy asks by way of rt, at the first place that answers as a device service does: the
// places that the device names, then the usual ones.
func ReadBy(ctx context.Context, rt http.RoundTripper, key Host, m *wsd.Match) (s device.Sighting, err error) {
	all := placesOf(m)
	for _, usual := range key.Met.places() {
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
		if to, ok := ledTo(all[i], key.Addr, err); ok && led < maxLed && !slices.Contains(all, to) {
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

func readAt(ctx context.Context, rt http.RoundTripper, key Host, m *wsd.Match, w place) (s device.Sighting, err error) {
	c := onvif.New(w.scheme, hostOf(key.Addr), w.service(), rt)
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
	f.Kind, f.Indoor = KindOf(m.Types, scopes, services)
	f.Name, f.Model, f.Tongues = scopes.Name, PlainHardware(scopes.Hardware), []device.Tongue{Name}
	if err := readDetails(ctx, c, key.Addr, key.MAC, &f); err != nil {
		return device.Sighting{}, err
	}
	return device.Sighting{At: time.Now(), By: device.ByService, MAC: key.MAC, Address: key.Addr, Endpoint: m.Endpoint, Facts: f}, nil
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
	c.Ahead(ctx, false, false)
	info, err := c.Information(ctx)
	if fatal(err) {
		return err
	}
	if err == nil {
		f.Make, f.Model, f.Firmware, f.Serial, f.Hardware = info.Make, info.Model, info.Firmware, info.Serial, info.Hardware
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

// IsThere reports whether a host has a device service at one of the usual places, each of which may
// take so long to answer. Nothing but the time is asked.
func IsThere(ctx context.Context, n *reach.Net, v *reach.Visitor, h Host, limit time.Duration) bool {
	path, err := n.Open(v, h.MAC)
	if err != nil {
		return false
	}
	defer path.Close()
	for _, w := range h.Met.places() {
		ctx, cancel := context.WithTimeoutCause(ctx, limit, errors.New("no answer"))
		c := newCarrier(path)
		client := onvif.New(w.scheme, hostOf(h.Addr), w.service(), c)
		_, _, err := client.Clock(ctx)
		client.Close()
		c.CloseIdleConnections()
		cancel()
		var fault *soap.Fault
		// A page that is no such service answers with a status and no fault of SOAP.
		if err == nil || errors.As(err, &fault) && fault.Code != "" {
			return true
		}
	}
	return false
}
