package commission

import (
	"context"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/core/evidence"
	"janustat/core/secret"
)

var (
	oldPlace = netip.MustParseAddr("192.168.77.20")
	newPlace = netip.MustParseAddr("10.61.8.42")
	gateway  = netip.MustParseAddr("10.61.8.1")
	own      = device.MAC{2, 0, 0, 0, 0, 1}
)

func plan() Plan {
	return Plan{
		ID: 1, Tag: "C01", MAC: own, Serial: "S1", From: oldPlace, User: "admin", Password: secret.New("Quay-side7"),
		Target: device.Settings{Address: newPlace, Prefix: 23, Gateway: gateway, Name: "Quay"},
	}
}

func TestRunSettlesADevice(t *testing.T) {
	for _, c := range []struct {
		name   string
		make   func(*toy)
		writes []string
	}{
		{"moves at once", func(*toy) {}, []string{"key", "clock", "name", "address", "gateway"}},
		{"needs a restart", func(d *toy) { d.needsBoot = true }, []string{"key", "clock", "name", "address", "gateway", "restart"}},
		{"loses the reply when it moves", func(d *toy) { d.loseMove = 1 }, []string{"key", "clock", "name", "address", "gateway"}},
		{"loses the request", func(d *toy) { d.loseBefore = 1 }, []string{"key", "clock", "name", "address", "address", "gateway"}},
		{"loses the reply to its first password", func(d *toy) { d.loseKey = 1 }, []string{"key", "clock", "name", "address", "gateway"}},
		{"was keyed by an interrupted run", func(d *toy) { d.password = "Quay-side7" }, []string{"clock", "name", "address", "gateway"}},
		{"had moved before the interruption", func(d *toy) {
			d.password, d.at, d.set.Settings.Address, d.set.Settings.Prefix = "Quay-side7", newPlace, newPlace, 23
		}, []string{"clock", "name", "gateway"}},
		{"moves by itself before it is spoken to", func(d *toy) { d.password, d.movesOff = "Quay-side7", true }, []string{"clock", "name", "gateway"}},
		{"is on DHCP at the right address", func(d *toy) {
			d.at, d.set.Settings.Address, d.set.Settings.Prefix, d.set.Settings.DHCP = newPlace, newPlace, 23, true
		}, []string{"key", "clock", "name", "address", "gateway"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := newToy()
			c.make(d)
			r := d.run(t.Context(), plan())
			require.Equal(t, Done, r.Status, "%s", r.Reason)
			assert.Equal(t, c.writes, d.writes())
			assert.Equal(t, newPlace, r.At)
			assert.True(t, r.Opened)
			assert.Equal(t, "Quay-side7", d.password)
			assert.Contains(t, d.log, "as left")

			before := len(d.writes())
			again := plan()
			again.From = newPlace
			r = d.run(t.Context(), again)
			require.Equal(t, Done, r.Status)
			assert.Len(t, d.writes(), before, "a finished device is written to again")
			assert.Empty(t, r.Writes)
		})
	}
}

func TestIntentIsJournaledBeforeEveryWrite(t *testing.T) {
	d := newToy()
	require.Equal(t, Done, d.run(t.Context(), plan()).Status)
	for i, l := range d.log {
		if step, ok := cut(l, "write "); ok {
			assert.Equal(t, "begin "+step, d.log[i-1])
			assert.Equal(t, "end done", d.log[i+1])
		}
	}
	assert.Equal(t, "probe", d.log[0], "the address is probed beside the other steps")
}

func TestRunNeedsYou(t *testing.T) {
	for _, c := range []struct {
		name   string
		make   func(*toy, *Plan)
		reason string
		writes []string
	}{
		{"sealed", func(d *toy, _ *Plan) { d.password = "someone's" }, "has a password", nil},
		{"sealed, and no key", func(d *toy, p *Plan) { d.password, p.Password = "someone's", secret.Password{} }, "not on the keyring", nil},
		{"reset since the survey", func(_ *toy, p *Plan) { p.Password = secret.Password{} }, "is fresh now", nil},
		{"budget spent", func(d *toy, _ *Plan) { d.password, d.budget = "someone's", 7*time.Minute }, "no password tries left", nil},
		{"gone", func(d *toy, _ *Plan) { d.away = true }, "does not answer at 10.61.8.42 or 192.168.77.20", nil},
		{"another device", func(d *toy, _ *Plan) { d.serial = "S2" }, "serial S2, not S1", nil},
		{"address in use", func(d *toy, _ *Plan) { d.inUse = true }, "02:00:00:00:00:99", []string{"key", "clock", "name"}},
		{"nothing heard", func(d *toy, _ *Plan) { d.unheard = true }, "not known whether its new address is free", []string{"key", "clock", "name"}},
		{"password rules", func(d *toy, _ *Plan) { d.rules = &secret.Rules{MinLen: 20} }, "at least 20", nil},
		{"does not keep", func(d *toy, _ *Plan) { d.forgets = map[Step]bool{StepGateway: true} }, "does not keep", []string{"key", "clock", "name", "address", "gateway", "gateway", "gateway"}},
		{"stays open", func(d *toy, _ *Plan) { d.open = true }, "without a password", []string{"key", "clock", "name", "address", "gateway"}},
		{"journal full", func(d *toy, _ *Plan) { d.journalFail = true }, "nothing was sent", nil},
		{"would strand", func(_ *toy, p *Plan) { p.Target.Gateway = netip.MustParseAddr("10.62.0.1") }, "outside the subnet", nil},
		{"network address", func(_ *toy, p *Plan) { p.Target.Address = netip.MustParseAddr("10.61.8.0") }, "host part zero", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, p := newToy(), plan()
			c.make(d, &p)
			r := d.run(t.Context(), p)
			require.Equal(t, NeedsYou, r.Status)
			assert.Contains(t, r.Reason, c.reason)
			assert.False(t, r.Next.IsZero())
			assert.Equal(t, c.writes, d.writes())
			if p.Password.IsZero() {
				assert.NotContains(t, d.log, "spend", "a try without a password")
			}
		})
	}
}

func TestRunInterrupted(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	d := newToy()
	d.away = true
	r := d.run(ctx, plan())
	assert.Equal(t, NotTried, r.Status)
	assert.Empty(t, d.writes())
}

// A device that confirmed its address for its next restart is only restarted.
func TestAPendingAddressIsNotSetAgain(t *testing.T) {
	d, p := newToy(), plan()
	d.password, d.set.Clock, d.set.Settings.Name, d.needsBoot = "Quay-side7", 0, "Quay", true
	d.next = &device.Settings{Address: newPlace, Prefix: 23}
	p.Pending = true
	r := d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []string{"gateway", "restart"}, d.writes())

	d.log, d.at, d.next, d.set.Settings.Address = nil, oldPlace, nil, oldPlace
	d.needsBoot = false
	r = d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []string{"restart", "address"}, d.writes(), "one that has forgotten it is told again")
}

func TestNameBySerial(t *testing.T) {
	d, p := newToy(), plan()
	p.Serial, p.NameBySerial = "", func(serial string) string { return "Named " + serial }
	require.Equal(t, Done, d.run(t.Context(), p).Status)
	assert.Equal(t, "Named S1", d.set.Settings.Name)
}

// A device that waits, for its restart or for the probe, holds no place.
func TestPlacesAreFreeWhileWaiting(t *testing.T) {
	var plans []Plan
	for i := range 5 {
		p := plan()
		p.ID = int64(i)
		plans = append(plans, p)
	}
	places := NewPlaces(1)
	var mu sync.Mutex
	waiting := 0
	all := make(chan struct{})
	w := Worker{Place: places, Site: siteFunc{newToy, func() {
		mu.Lock()
		defer mu.Unlock()
		if waiting++; waiting == len(plans) {
			close(all) // every device waits for its probe at the same time, with one place
		}
	}, all, &sync.Map{}}, Journal: noNotes{}, Attempts: noNotes{}}
	results := RunAll(t.Context(), w, plans, func(f func()) { go f() }, nil)
	for i, r := range results {
		assert.Equal(t, int64(i), r.Plan.ID, "results come in the order of the plans")
		assert.Equal(t, Done, r.Status, r.Reason)
	}
}

// siteFunc gives each plan a toy of its own, and holds probes until all wait.
type siteFunc struct {
	make func() *toy
	wait func()
	all  chan struct{}
	toys *sync.Map
}

func (s siteFunc) toy(p Plan) *toy {
	v, _ := s.toys.LoadOrStore(p.ID, s.make())
	return v.(*toy)
}
func (s siteFunc) Tethered(context.Context, time.Time) (bool, error) { return false, nil }
func (s siteFunc) Now() time.Time                                    { return time.Time{} }
func (s siteFunc) Pause(context.Context) error                       { return nil }
func (s siteFunc) Arrive(context.Context, Plan) error                { return nil }
func (s siteFunc) Find(c context.Context, p Plan, a []netip.Addr) (netip.Addr, error) {
	return s.toy(p).Find(c, p, a)
}

func (s siteFunc) Return(c context.Context, p Plan, w netip.Addr, a []netip.Addr) (netip.Addr, bool, error) {
	return s.toy(p).Return(c, p, w, a)
}

func (s siteFunc) Repowered(c context.Context, p Plan, w netip.Addr, a []netip.Addr) (netip.Addr, error) {
	return s.toy(p).Repowered(c, p, w, a)
}

func (s siteFunc) Open(c context.Context, p Plan, at netip.Addr) (Session, error) {
	return s.toy(p).Open(c, p, at)
}
func (s siteFunc) Claim(context.Context, Plan) Claim { return s }
func (s siteFunc) Alone(context.Context, Plan) Claim { return verdict{newToy()} }
func (s siteFunc) Wait(ctx context.Context) error {
	s.wait()
	select {
	case <-s.all:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

type noNotes struct{}

func (noNotes) Begin(context.Context, Plan, Write) (int64, error) { return 0, nil }
func (noNotes) End(context.Context, int64, string, string) error  { return nil }
func (noNotes) Found(context.Context, Plan, Found) error          { return nil }
func (noNotes) Left(context.Context, Plan, Found) error           { return nil }
func (noNotes) Spend(context.Context, Plan, Credential) (Try, time.Duration, error) {
	return "", 0, nil
}
func (noNotes) Ended(context.Context, Try, bool) error                             { return nil }
func (noNotes) Remaining(context.Context, Plan) (int, error)                       { return 2, nil }
func (noNotes) Unmade(context.Context, Try) error                                  { return nil }
func (noNotes) Locked(context.Context, Plan, evidence.Proven[time.Duration]) error { return nil }

func TestDecide(t *testing.T) {
	p := plan()
	right := Found{Settings: p.Target, Clock: time.Second}
	assert.Empty(t, Decide(p, right))
	slow := Found{Settings: p.Target, Clock: -1800 * time.Millisecond, ClockDoubt: 900 * time.Millisecond}
	assert.Empty(t, Decide(p, slow), "it may be right, and would be proved")
	follows := Found{Settings: p.Target, Clock: 1400 * time.Millisecond, ByNTP: true}
	assert.Empty(t, Decide(p, follows), "its server will see to that")
	for name, c := range map[string]struct {
		change func(*Found)
		want   []Step
	}{
		"ntp":     {func(f *Found) { f.Clock, f.ByNTP = 1600*time.Millisecond, true }, []Step{StepClock}},
		"drifted": {func(f *Found) { f.Clock = 1100 * time.Millisecond }, []Step{StepClock}},
		"slow":    {func(f *Found) { f.Clock, f.ClockDoubt = 2100*time.Millisecond, time.Minute }, []Step{StepClock}},
		"clock":   {func(f *Found) { f.Clock = -3 * time.Second }, []Step{StepClock}},
		"name":    {func(f *Found) { f.Settings.Name = "x" }, []Step{StepName}},
		"mask":    {func(f *Found) { f.Settings.Prefix = 24 }, []Step{StepAddress}},
		"dhcp":    {func(f *Found) { f.Settings.DHCP = true }, []Step{StepAddress}},
		"gateway": {func(f *Found) { f.Settings.Gateway = netip.Addr{} }, []Step{StepGateway}},
	} {
		f := right
		c.change(&f)
		assert.Equal(t, c.want, Decide(p, f), name)
	}
}

// A device that was moved is done when it has been read back at its address, alone.
func TestDoneIsAlone(t *testing.T) {
	d := newToy()
	d.doubled = true
	r := d.run(t.Context(), plan())
	assert.Equal(t, NeedsYou, r.Status)
	assert.Contains(t, r.Reason, "is not alone on "+newPlace.String())
	assert.NotContains(t, d.log, "left")
}
