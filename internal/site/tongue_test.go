package site

import (
	"context"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/evidence"
	"janustat/core/keys"
	"janustat/core/policy"
	"janustat/core/secret"
	"janustat/internal/reach"
	"janustat/internal/reach/reachtest"
	"janustat/internal/sheetfile"
	"janustat/internal/survey"
	"janustat/internal/survey/surveytest"
	"janustat/internal/tongue"
	"janustat/internal/tongues"
	"janustat/internal/wire"
)

// What adding a tongue takes: the next hundred lines, and one entry in Tongues.

// bell is a toy: devices ring when they are sought ("ring SERIAL fresh|keyed NAME"), are
// given a password by "key SERIAL PASSWORD", and a name by "name SERIAL PASSWORD NAME".
type bell struct{}

const (
	bellName = device.Tongue("bell")
	bellPort = 1022 // RFC 4727, 6
)

var bellGroup = netip.MustParseAddrPort("224.0.0.254:1022")

func (bell) Name() device.Tongue { return bellName }

func (bell) Seek(n *reach.Net) error { return n.SendLink(bellPort, bellGroup, []byte("seek")) }

func (bell) Hear(h *reach.Heard) (device.Sighting, bool) {
	if h.Datagram == nil || h.Datagram.To.Port() != bellPort {
		return device.Sighting{}, false
	}
	words := strings.SplitN(string(h.Datagram.Payload), " ", 4)
	if len(words) != 4 || words[0] != "ring" {
		return device.Sighting{}, false
	}
	f := device.Facts{Kind: device.Panel, Serial: words[1], Name: words[3], Access: device.Sealed, Tongues: []device.Tongue{bellName}}
	if words[2] == "fresh" {
		f.Access = device.Fresh
	}
	return device.Sighting{At: h.At, By: "bell", MAC: h.From, Facts: f}, true
}

func (bell) Open(_ context.Context, w tongue.Way, p commission.Plan, at netip.Addr) (commission.Session, error) {
	return &bellSession{net: w.Network(), mac: p.MAC, at: at}, nil
}

type bellSession struct {
	net  *reach.Net
	mac  device.MAC
	at   netip.Addr
	pass string
}

// say says something, and gives what the device rings then.
func (s *bellSession) say(ctx context.Context, text string) (device.Facts, error) {
	rung := make(chan device.Facts, 1)
	defer s.net.Hear(func(h reach.Heard) {
		if x, ok := (bell{}).Hear(&h); ok && h.From == s.mac {
			select {
			case rung <- x.Facts:
			default:
			}
		}
	})()
	for {
		if err := s.net.SendLink(bellPort, bellGroup, []byte(text)); err != nil {
			return device.Facts{}, err
		}
		select {
		case f := <-rung:
			return f, nil
		case <-time.After(200 * time.Millisecond):
		case <-ctx.Done():
			return device.Facts{}, ctx.Err()
		}
	}
}

func (s *bellSession) Access(ctx context.Context) (device.Access, error) {
	f, err := s.say(ctx, "seek")
	return f.Access, err
}
func (s *bellSession) Witness() evidence.Witness { return evidence.Of(evidence.ByPath) }
func (s *bellSession) Encrypted() bool           { return true }
func (s *bellSession) Certificate() string       { return "" }
func (s *bellSession) Identity(ctx context.Context) (commission.Identity, error) {
	f, err := s.say(ctx, "seek")
	return commission.Identity{Serial: f.Serial}, err
}

func (s *bellSession) Enter(_ context.Context, _ string, p secret.Password) (bool, error) {
	s.pass = p.Reveal()
	return true, nil
}

func (s *bellSession) Read(ctx context.Context) (commission.Found, error) {
	f, err := s.say(ctx, "seek")
	return commission.Found{Serial: f.Serial, Settings: device.Settings{Address: s.at, Prefix: 23, Gateway: netip.MustParseAddr("10.61.8.1"), Name: f.Name}}, err
}

func (s *bellSession) RefusesAnonymous(context.Context) (bool, error)             { return true, nil }
func (s *bellSession) Close()                                                     {}
func (s *bellSession) Rules(context.Context) (*secret.Rules, error)               { return nil, nil }
func (s *bellSession) SetPassword(context.Context, string, secret.Password) error { return nil }
func (s *bellSession) CreateAdministrator(ctx context.Context, _ string, p secret.Password) error {
	_, err := s.say(ctx, "key "+p.Reveal())
	return err
}

func (s *bellSession) SetName(ctx context.Context, name string) error {
	_, err := s.say(ctx, "name "+s.pass+" "+name)
	return err
}

// moved is a wire with another MAC: that of the toy device.
type moved struct {
	wire.Wire
	mac device.MAC
}

func (m moved) Facts() wire.Facts {
	f := m.Wire.Facts()
	f.MAC = m.mac
	return f
}

// ringer is the device's end.
type ringer struct {
	mu         sync.Mutex
	pass, name string
}

func (r *ringer) take(n *reach.Net, text string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	verb, rest, _ := strings.Cut(text, " ")
	switch verb {
	case "key":
		if r.pass == "" {
			r.pass = rest
		}
	case "name":
		if pass, name, ok := strings.Cut(rest, " "); ok && pass == r.pass {
			r.name = name
		}
	case "seek":
	default:
		return
	}
	state := "fresh"
	if r.pass != "" {
		state = "keyed"
	}
	_ = n.SendLink(bellPort, bellGroup, []byte("ring B1 "+state+" "+r.name)) // asked again if it is lost
}

// A device that speaks a tongue of its own is found, and set up as far as that goes.
func TestAThirdTongue(t *testing.T) {
	tongues.All = append(tongues.All, bell{})
	t.Cleanup(func() { tongues.All = tongues.All[:len(tongues.All)-1] })
	n, _, socket := reachtest.WithSocket(t, "site: Bells\nlaptop: {mac: \"02:1a:70:00:00:01\", addresses: [10.61.8.200/23]}\n")
	w, err := wire.DialBench(socket)
	require.NoError(t, err)
	mac, at, subnet := device.MAC{0x02, 0x7a, 0x11, 0, 9, 1}, netip.MustParseAddr("10.61.8.77"), netip.MustParsePrefix("10.61.8.0/23")
	other := reach.New(moved{w, mac})
	t.Cleanup(func() { other.Close() })
	other.Prefer = map[netip.Prefix]netip.Addr{subnet: at}
	_, err = other.Visit(t.Context(), subnet, at, nil)
	require.NoError(t, err)
	toy := &ringer{name: "Bell"}
	other.Hear(func(h reach.Heard) {
		if h.Datagram != nil && h.Datagram.To.Port() == bellPort {
			toy.take(other, string(h.Datagram.Payload))
		}
	})

	found := surveytest.Devices(t, n)
	d := device.ByMAC(found, mac)
	require.NotNil(t, d)
	assert.Equal(t, device.Fresh, d.Access)
	assert.Equal(t, "B1", d.Serial)
	assert.Equal(t, []device.Tongue{bellName}, d.Preferred())
	d.InJob, d.Tag, d.ID = device.Taken, "P01", 1
	d.Apply(device.Allotment{Settings: device.Settings{Address: at, Prefix: 23, Gateway: netip.MustParseAddr("10.61.8.1")}})
	sheet, err := sheetfile.Parse([]byte("names: {B1: Gate}\n"))
	require.NoError(t, err)
	planner := &policy.Planner{Sheet: sheet, Keys: keys.NewRing(), All: []device.Device{*d}, MaybeKeyed: map[int64]bool{}, Random: strings.NewReader(strings.Repeat("x1Y-", 999)), Now: time.Now}
	plans := planner.Plans([]device.Device{*d})
	site := &Site{Net: n, Subnets: survey.NewSubnets(n.Facts().Addresses, subnet, nil, nil), Veil: &secret.Veil{}}
	worker := commission.Worker{Site: site, Journal: unwritten{}, Attempts: unwritten{}, Place: commission.NewPlaces(1)}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	r := worker.Run(ctx, plans[0])
	assert.Equal(t, commission.Done, r.Status, r.Reason)
	assert.Equal(t, []commission.Step{commission.StepKey, commission.StepName}, r.Writes)
	assert.Equal(t, "Gate", toy.name)
	assert.Equal(t, plans[0].Password.Reveal(), toy.pass)
	assert.Equal(t, "Gate", r.Left.Settings.Name)
}

// unwritten is a journal that nobody reads.
type unwritten struct{}

func (unwritten) Begin(context.Context, commission.Plan, commission.Write) (int64, error) {
	return 1, nil
}

func (unwritten) End(context.Context, int64, string, string) error { return nil }

func (unwritten) Found(context.Context, commission.Plan, commission.Found) error { return nil }

func (unwritten) Left(context.Context, commission.Plan, commission.Found) error { return nil }

func (unwritten) Spend(context.Context, commission.Plan, commission.Credential) (commission.Try, time.Duration, error) {
	return "t", 0, nil
}

func (unwritten) Ended(context.Context, commission.Try, bool) error { return nil }

func (unwritten) Unmade(context.Context, commission.Try) error { return nil }
func (unwritten) Locked(context.Context, commission.Plan, evidence.Proven[time.Duration]) error {
	return nil
}

func (unwritten) Remaining(context.Context, commission.Plan) (int, error) { return 2, nil }
