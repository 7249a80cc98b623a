package field

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
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
	"janustat/internal/reach"
	"janustat/internal/speak/onvif"
	"janustat/internal/speak/wsd"
)

func kindOf(types []wsd.Type, scopes wsd.Scopes, services []string) (device.Kind, bool) {
	return onvif.KindOf(types, scopes, services)
}

// speaksDevice reports whether a match is of the standard device service, by
// its types or its scopes. Printers and the like speak discovery too, and are
// asked nothing more.
func speaksDevice(m *wsd.Match) bool {
	return m != nil && (slices.Contains(m.Types, wsd.AnyDevice) || slices.Contains(m.Types, wsd.Transmitter) ||
		slices.ContainsFunc(m.Scopes, func(s string) bool { return strings.HasPrefix(s, "onvif://") }))
}

func plainHardware(s string) string { return strings.ReplaceAll(s, "_", " ") }

// ports of the device service where the device does not say.
const (
	httpPort  = 80
	httpsPort = 443
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
		plain = append(plain, place{"http", httpPort, onvif.DefaultPath}, place{"https", httpsPort, onvif.DefaultPath})
	}
	return slices.Concat(plain, secure)
}

// securePlaces gives where the service may be over HTTPS: where the device says,
// and at the well-known port.
func securePlaces(all []place) (out []place) {
	for _, w := range all {
		if w.scheme == "https" {
			out = append(out, w)
		}
	}
	return append(out, place{"https", httpsPort, all[0].path})
}

// carrier carries HTTP and HTTPS over a path to one device.
type carrier struct {
	*http.Transport
	shown atomic.Pointer[string] // fingerprint of the certificate last shown
}

// newCarrier makes a carrier. Certificates are not judged: devices sign their own.
// What protects is the path to the one MAC, and that a change is told.
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
		TLSClientConfig:     lenient(&c.shown),
		TLSHandshakeTimeout: 5 * time.Second,
		DisableCompression:  true,
		MaxIdleConnsPerHost: 1,
		IdleConnTimeout:     5 * time.Second,
		// A device that takes the connection and says nothing must not hold the survey up.
		ResponseHeaderTimeout: 8 * time.Second,
	}
	return c
}

// lenient takes whatever encryption a device has: what is left otherwise is none.
// The certificate that it shows is noted.
func lenient(shown *atomic.Pointer[string]) *tls.Config {
	var suites []uint16
	for _, s := range slices.Concat(tls.CipherSuites(), tls.InsecureCipherSuites()) {
		suites = append(suites, s.ID)
	}
	return &tls.Config{
		InsecureSkipVerify: true, //nolint:gosec // devices sign their own
		MinVersion:         tls.VersionTLS10,
		CipherSuites:       suites,
		VerifyConnection: func(s tls.ConnectionState) error {
			if len(s.PeerCertificates) > 0 {
				sum := sha256.Sum256(s.PeerCertificates[0].Raw)
				text := hex.EncodeToString(sum[:])
				shown.Store(&text)
			}
			return nil
		},
	}
}

// fingerprint of the certificate last shown, or "".
func (c *carrier) fingerprint() string {
	if text := c.shown.Load(); text != nil {
		return *text
	}
	return ""
}

// readDevice asks a device's service for what it tells without a password.
func readDevice(ctx context.Context, n *reach.Net, v *reach.Visitor, key hearing, m *wsd.Match) (device.Sighting, error) {
	path, err := n.Open(v, key.mac)
	if err != nil {
		return device.Sighting{}, err
	}
	defer path.Close()
	c := newCarrier(path)
	s, err := readBy(ctx, c, key, m)
	if err == nil {
		s.Facts.TLS = lookTLS(ctx, c, key.addr, securePlaces(placesOf(m)))
		if s.Facts.NoTLS = s.Facts.TLS == nil; !s.Facts.NoTLS {
			s.Facts.Ports = append(s.Facts.Ports, s.Facts.TLS.Port)
		}
	}
	return s, err
}

// tlsLook is how long a device may take to show that it speaks HTTPS.
const tlsLook = 3 * time.Second

// lookTLS looks whether the device service answers over HTTPS. Nothing but the
// time is asked, which a device tells everyone.
func lookTLS(ctx context.Context, c *carrier, at netip.Addr, places []place) *device.TLS {
	ctx, cancel := context.WithTimeout(ctx, tlsLook)
	defer cancel()
	for _, w := range places {
		client := onvif.New("https", hostOf(at), w.service(), c)
		_, _, err := client.Clock(ctx)
		client.Close()
		if err == nil {
			return &device.TLS{Port: w.port, Fingerprint: c.fingerprint()}
		}
	}
	return nil
}

// readBy asks by way of rt, at the first place that can be reached.
func readBy(ctx context.Context, rt http.RoundTripper, key hearing, m *wsd.Match) (s device.Sighting, err error) {
	for _, w := range placesOf(m) {
		s, err = readAt(ctx, rt, key, m, w)
		if !errors.Is(err, onvif.ErrUnreachable) {
			break
		}
	}
	return s, err
}

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
	f.Name, f.Model = scopes.Name, plainHardware(scopes.Hardware)
	if err := readDetails(ctx, c, key.addr, &f); err != nil {
		return device.Sighting{}, err
	}
	return device.Sighting{At: time.Now(), By: "device service", MAC: key.mac, Address: key.addr, Endpoint: m.Endpoint, Facts: f}, nil
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
func readDetails(ctx context.Context, c *onvif.Client, at netip.Addr, f *device.Facts) error {
	info, err := c.Information(ctx)
	if fatal(err) {
		return err
	}
	if err == nil {
		f.Make, f.Model, f.Firmware, f.Serial = info.Make, info.Model, info.Firmware, info.Serial
	}
	settings, macs, err := c.Network(ctx, at)
	if fatal(err) {
		return err
	}
	if err == nil {
		f.OtherMAC = macs
		settings.Gateway, err = c.Gateway(ctx)
		if fatal(err) {
			return err
		}
		settings.Name = f.Name
		f.Settings = &settings
	}
	if f.Rules, err = c.Rules(ctx); fatal(err) {
		return err
	}
	return nil
}

// fatal tells an error of the conversation from a refusal by the device.
func fatal(err error) bool {
	return errors.Is(err, onvif.ErrUnreachable) || errors.Is(err, onvif.ErrNoReply)
}
