package standard

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/evidence"
	"janustat/core/secret"
	"janustat/core/settings/certificate"
	"janustat/core/settings/discovery"
	"janustat/core/settings/httpport"
	"janustat/core/settings/https"
	"janustat/core/settings/httpsport"
	"janustat/core/settings/outside"
	"janustat/core/settings/plainhttp"
	"janustat/core/settings/rtspport"
	"janustat/core/settings/zone"
	"janustat/core/text"
	"janustat/internal/reach"
	"janustat/internal/speak/onvif"
	"janustat/internal/speak/wsd"
	"janustat/internal/tongue"
)

// session is a conversation with one device. It implements commission.Session.
type session struct {
	*onvif.Client
	by   *carrier
	path *reach.Path
	way  tongue.Way
	plan commission.Plan
	at   netip.Addr

	visitor  *reach.Visitor
	sources  []onvif.Picture // as they were read last
	channels *onvif.Recorder // likewise
	wrote    bool            // to one of its channels since
	timed    bool            // it was told the time together with its zone
	endpoint string          // as it told by discovery in this conversation
	known    bool            // it told the identity that is on record, if one is
	secure   *device.TLS     // where it is met over HTTPS from now on
	moved    string          // where its service is from now on
}

// The standard device service can do all of this.
var _ interface {
	commission.Session
	commission.Keyer
	commission.UserKeeper
	commission.ClockSetter
	zone.Keeper
	rtspport.Keeper
	outside.Connected
	discovery.Announcer
	https.Switch
	plainhttp.Switch
	commission.Secured
	commission.Moved
	httpport.Keeper
	httpsport.Keeper
	commission.Vouched
	certificate.Holder
	commission.Backer
	commission.Flasher
	commission.Namer
	commission.ServerSetter
	commission.Addresser
	commission.Restarter
	commission.Resetter
	commission.Captioner
} = (*session)(nil)

// lost turns the loss of a reply into what the steps understand. A write that
// could not even be sent counts too: looking in both places is right for both.
func (s *session) lost(err error) error {
	var locked *onvif.LockedError
	switch {
	case errors.As(err, &locked):
		return &commission.LockedError{Wait: evidence.Say(locked.Wait), By: s.Witness()}
	case errors.Is(err, onvif.ErrShut):
		return fmt.Errorf("%w: %w", commission.ErrShut, err)
	case fatal(err):
		return fmt.Errorf("%w: %w", commission.ErrReplyLost, err)
	case errors.Is(err, onvif.ErrNotNow):
		return fmt.Errorf("%w: %w", commission.ErrWindow, err)
	}
	return err
}

// Read implements commission.Session.
func (s *session) Read(ctx context.Context) (commission.Found, error) {
	s.timed = false
	f, err := s.read(ctx)
	f.By = s.Witness()
	if s.Entered() {
		if f.Login = device.LoginToken; s.Digests() {
			f.Login = device.LoginDigest
		}
	}
	return f, s.lost(err)
}

func (s *session) read(ctx context.Context) (commission.Found, error) {
	var f commission.Found
	s.Ahead(ctx, true, s.plan.Whole)
	info, err := s.Information(ctx)
	if err != nil && !onvif.Untold(err) {
		return f, err
	}
	f.Make, f.Model, f.Serial, f.Firmware, f.Hardware = info.Make, info.Model, info.Serial, info.Firmware, info.Hardware
	f.Service = s.plan.Service
	if f.Settings, f.MACs, err = s.Network(ctx, s.at, s.plan.MAC); err != nil {
		return f, err
	}
	// Only where it is and who may open it has to be told; the rest a device may keep to itself.
	f.Settings.Gateway, err = s.Gateway(ctx)
	if err := untold(&f, commission.StepGateway, err); err != nil {
		return f, err
	}
	f.Settings.Name, err = s.Name(ctx)
	if err := untold(&f, commission.StepName, err); err != nil {
		return f, err
	}
	if err := s.readServers(ctx, &f); err != nil {
		return f, err
	}
	users, err := s.Users(ctx)
	if err != nil {
		return f, err
	}
	for _, u := range users {
		f.Accounts = append(f.Accounts, commission.Account{Name: strings.TrimSpace(u.Name), Level: commission.Level(strings.TrimSpace(u.Level))})
	}
	if f.Certificate, f.Vouched = s.Certificate(), s.Vouched(); s.Encrypted() {
		f.TLS = shownTLS(s.plan.TLS.Port, s.by, s.ours())
	}
	if err := s.readPictures(ctx, &f); err != nil {
		return f, err
	}
	if err := s.readChannels(ctx, &f); err != nil {
		return f, err
	}
	f.Clock, f.ClockDoubt, err = s.ClockNow(ctx)
	f.ByNTP = s.ByNTP()
	f.Settings.Zone, _ = s.Zone()
	return f, untold(&f, commission.StepClock, err)
}

// untold takes down a setting that the device does not tell, and gives every other error.
func untold(f *commission.Found, s commission.Step, err error) error {
	if !onvif.Untold(err) {
		return err
	}
	f.Untold(s)
	return nil
}

// readPictures reads what the pictures show, where that is planned and told.
func (s *session) readPictures(ctx context.Context, f *commission.Found) (err error) {
	// One whose serial number is not known yet may turn out to have a name.
	named := s.plan.Target.Name != "" || s.plan.Serial == "" && s.plan.NameBySerial != nil
	if !s.plan.Pictures || !named || !s.Entered() {
		return nil
	}
	s.sources, err = s.Pictures(ctx, f.Settings.Name, s.plan.Target.Name)
	for _, p := range s.sources {
		f.Pictures = append(f.Pictures, commission.Picture{Name: p.Name, Text: p.Text, Named: p.Named, Shows: p.Shows})
	}
	return err
}

// Caption implements commission.Captioner.
func (s *session) Caption(ctx context.Context, name string) error {
	for i, p := range s.sources {
		if err := s.Client.Caption(ctx, p, commission.PictureName(name, i, len(s.sources))); err != nil {
			return s.lost(err)
		}
	}
	return nil
}

func (s *session) readServers(ctx context.Context, f *commission.Found) error {
	dns, err := s.DNS(ctx)
	if err != nil {
		return err
	}
	ntp, err := s.NTP(ctx)
	f.DNS = commission.Servers{Told: dns.Offered, FromDHCP: dns.FromDHCP, Addresses: dns.Addresses}
	f.NTP = commission.Servers{Told: ntp.Offered, FromDHCP: ntp.FromDHCP, Addresses: ntp.Addresses}
	f.Settings.DNS, f.Settings.NTP = dns.Addresses, ntp.Addresses
	return err
}

// Encrypted implements commission.Session.
func (s *session) Encrypted() bool { return s.plan.TLS != nil }

// Witness implements commission.Session: the certificate that is on record, or else the
// identity that was asked for in this conversation, which goes by the device's MAC alone.
func (s *session) Witness() evidence.Witness {
	switch {
	case s.plan.TLS != nil && (s.Certificate() == s.plan.TLS.Fingerprint || s.Vouched()):
		return evidence.Of(evidence.ByKey)
	case s.known || s.plan.TLS != nil && s.Certificate() != "" && s.Entered():
		return evidence.Of(evidence.ByPath)
	}
	return evidence.Witness{}
}

// Certificate implements commission.Session.
func (s *session) Certificate() string { return s.by.seen.Fingerprint() }

// Identity implements commission.Session. Where the device tells its serial number to
// nobody without a password, its endpoint reference is asked for by discovery.
func (s *session) Identity(ctx context.Context) (id commission.Identity, err error) {
	if s.plan.Serial != "" {
		if id.Serial, err = s.Serial(ctx); err != nil {
			return id, s.lost(err)
		}
	}
	if id.Serial == "" && s.plan.Endpoint != "" {
		if s.endpoint == "" {
			s.endpoint = endpointOf(ctx, s.way.Network(), s.visitor, s.plan.MAC, s.at)
		}
		id.Endpoint = s.endpoint
	}
	switch { // as commission.Recognise compares it
	case id.Serial != "" && s.plan.Serial != "":
		s.known = id.Serial == s.plan.Serial
	case id.Endpoint != "" && s.plan.Endpoint != "":
		s.known = id.Endpoint == s.plan.Endpoint
	default:
		s.known = true // its MAC is all that is on record, or all that it tells
	}
	return id, ctx.Err()
}

// Times at which a device is asked who it is by discovery; its answer may take half a
// second (WS-Discovery 2005/04, 2.4, APP_MAX_DELAY), and get lost.
const (
	whoTries = 4
	whoEvery = 700 * time.Millisecond
)

// endpointOf asks one device for its endpoint reference; "" where it does not answer.
func endpointOf(ctx context.Context, n *reach.Net, v *reach.Visitor, mac device.MAC, at netip.Addr) string {
	told := make(chan string, 1)
	stop := n.Hear(func(h reach.Heard) {
		d := h.Datagram
		if d == nil || d.MAC != mac || d.From.Addr() != at || d.To.Port() != wsd.ClientPort {
			return
		}
		if m, err := wsd.Parse(d.Payload); err == nil && m.Kind == wsd.ProbeMatches && len(m.Matches) > 0 {
			select {
			case told <- text.Harmless(m.Matches[0].Endpoint, text.Marker, nil):
			default:
			}
		}
	})
	defer stop()
	for range whoTries {
		for _, types := range [][]wsd.Type{{wsd.Transmitter}, {wsd.AnyDevice}} {
			if err := n.SendUDP(v, wsd.ClientPort, mac, netip.AddrPortFrom(at, wsd.Port), wsd.Probe(wsd.NewID(), types...)); err != nil {
				return ""
			}
		}
		t := time.NewTimer(n.Pace.Of(whoEvery))
		select {
		case e := <-told:
			t.Stop()
			return e
		case <-t.C:
		case <-n.Done():
			t.Stop()
			return ""
		case <-ctx.Done():
			t.Stop()
			return ""
		}
	}
	return ""
}

// Access implements commission.Session.
func (s *session) Access(ctx context.Context) (device.Access, error) {
	a, err := s.Client.Access(ctx)
	return a, s.lost(err)
}

// Enter implements commission.Session.
func (s *session) Enter(ctx context.Context, user string, p secret.Password) (bool, error) {
	ok, err := s.Client.Enter(ctx, user, p)
	return ok, s.notTheDevice(err)
}

// notTheDevice tells a login that is not made, since whoever answers is not what it was.
func (s *session) notTheDevice(err error) error {
	if errors.Is(err, onvif.ErrWeaker) || errors.Is(err, onvif.ErrAhead) {
		return commission.Stranger(s.plan, err.Error())
	}
	return s.lost(err)
}

// Opens implements commission.UserKeeper.
func (s *session) Opens(ctx context.Context, user string, p secret.Password) (bool, error) {
	ok, err := s.Client.Opens(ctx, user, p)
	return ok, s.notTheDevice(err)
}

// Rules implements commission.Keyer.
func (s *session) Rules(ctx context.Context) (*secret.Rules, error) {
	r, err := s.Client.Rules(ctx)
	return r, s.lost(err)
}

// RefusesAnonymous implements commission.Session.
func (s *session) RefusesAnonymous(ctx context.Context) (bool, error) {
	refuses, err := s.Client.RefusesAnonymous(ctx)
	return refuses, s.lost(err)
}

// Close implements commission.Session.
func (s *session) Close() {
	if s.Entered() && s.Witness().Stands() { // no word of a stranger outlives the conversation
		s.way.Memory().Store(s.plan.MAC, s.Lasting())
	}
	s.Client.Close()
	s.path.Close()
}
