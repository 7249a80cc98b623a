package commission

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
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

// toy is a device, its site, journal and attempts in one: what the worker meets.
type toy struct {
	at       netip.Addr // where it is met
	set      Found
	next     *device.Settings
	password string
	serial   string
	now      time.Time

	needsBoot   bool
	open        bool // anonymous access stays open
	loseMove    int  // so many replies are lost when the address changes, the change being made
	loseBefore  int  // so many requests are lost before anything happens
	loseKey     int  // so many CreateUsers replies are lost, the user being made
	inUse       bool
	journalFail bool
	rules       *secret.Rules
	budget      time.Duration
	away        bool
	picky       func(plain string) bool // takes only such passwords, and does not publish why
	dhcpOnly    bool
	closed      bool // its settings window, until it is powered off and on
	noHands     bool // and nobody does so
	loseRekey   bool
	encrypted   bool
	inClear     []Step
	users       map[string]string // passwords of further ones
	breakOff    int               // so many conversations break off while the device is read
	loseUser    bool
	late        time.Duration  // what setting the clock is
	details     []string       // of outcomes
	loseOpens   bool           // once
	forgetUser  bool           // does not keep the passwords of further users
	movesOff    bool           // it restarts by itself and takes up its new address
	endFails    bool           // no outcome can be recorded
	lockedFor   *time.Duration // it answers no password
	servers     bool           // it has settings for DNS and NTP
	refuseNTP   bool
	shown       string // certificate
	renews      bool   // makes another certificate when it gets an address
	identity    Identity
	stubborn    bool          // takes settings never, however often it is powered off and on
	keepsReset  bool          // a reset is lost on its way
	answers     bool          // it answers a reset
	cancel      func()        // ends the run
	cancelAt    string        // at this write
	lateFor     time.Duration // what opening takes
	cableOut    bool          // the laptop's own; it is put back in
	hides       bool          // tells nobody whether it has an administrator
	silentBoot  bool          // it uses an address after a restart, for which it does not ask
	lazy        int           // it acts on a restart when it has been waited for
	gatewayOnce bool          // it forgets its gateway when it gets an address, once
	gatewayIn   bool          // it takes only a gateway in the subnet it is in
	wantsGW     bool          // it takes an address only once its gateway is set
	frozen      bool          // it takes an address only with DHCP off
	noDNSByDHCP bool          // it takes DNS servers only with DHCP off
	refuses     map[Step]bool // it never takes these
	forgets     map[Step]bool // it takes these and does not keep them

	log []string
}

func newToy() *toy {
	t := &toy{at: oldPlace, serial: "S1", now: time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)}
	t.set = Found{Settings: device.Settings{Address: oldPlace, Prefix: 24, Name: "Dome"}, Clock: time.Hour, MACs: []device.MAC{own}}
	return t
}

func (t *toy) note(format string, args ...any) { t.log = append(t.log, fmt.Sprintf(format, args...)) }

func (t *toy) Now() time.Time { t.now = t.now.Add(time.Second); return t.now }

func (t *toy) Tethered(context.Context, time.Time) (bool, error) {
	if !t.cableOut {
		return false, nil
	}
	t.note("cable back")
	t.cableOut, t.away = false, false
	return true, nil
}

func (t *toy) Arrive(context.Context, Plan) error { return nil }

func (t *toy) Find(_ context.Context, _ Plan, places []netip.Addr) (netip.Addr, error) {
	if t.away || !slices.Contains(places, t.at) {
		return netip.Addr{}, errors.New("no answer")
	}
	return t.at, nil
}

func (t *toy) Return(ctx context.Context, p Plan, was netip.Addr, places []netip.Addr) (netip.Addr, bool, error) {
	at, err := t.Find(ctx, p, places)
	return at, at == was && t.lazy > 0, err
}

func (t *toy) Repowered(ctx context.Context, p Plan, _ netip.Addr, places []netip.Addr) (netip.Addr, error) {
	t.note("repowered")
	if t.noHands {
		return netip.Addr{}, context.DeadlineExceeded
	}
	t.closed = false
	if t.lazy > 0 { // it restarts at last
		t.lazy = 0
		t.boot()
	}
	return t.Find(ctx, p, places)
}

func (t *toy) Open(_ context.Context, _ Plan, at netip.Addr) (Session, error) {
	if t.movesOff { // between being met and being spoken to
		t.movesOff = false
		t.at, t.set.Settings.Address, t.set.Settings.Prefix = newPlace, newPlace, 23
	}
	if at != t.at {
		return nil, errors.New("nobody there")
	}
	t.now = t.now.Add(t.lateFor)
	return &toySession{toy: t}, nil
}

func (t *toy) Claim(context.Context, Plan) Claim { t.note("probe"); return t }

func (t *toy) Wait(context.Context) error {
	if t.inUse {
		return fmt.Errorf("%w by 02:00:00:00:00:99", ErrInUse)
	}
	return nil
}

func (t *toy) Begin(_ context.Context, _ Plan, w Write) (int64, error) {
	if t.journalFail {
		return 0, errors.New("disk full")
	}
	t.note("begin %s", w.Step)
	if w.InClear {
		t.inClear = append(t.inClear, w.Step)
	}
	return 1, nil
}

func (t *toy) End(ctx context.Context, _ int64, outcome, detail string) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	t.note("end %s", outcome)
	if detail != "" {
		t.details = append(t.details, detail)
	}
	if t.endFails {
		return errors.New("disk full")
	}
	return nil
}
func (t *toy) Found(context.Context, Plan, Found) error { t.note("as found"); return nil }
func (t *toy) Left(context.Context, Plan, Found) error  { t.note("as left"); return nil }

func (t *toy) Spend(_ context.Context, _ Plan, k Credential) (Try, time.Duration, error) {
	t.note("spend")
	return Try(k.Password.Reveal()), t.budget, nil
}

func (t *toy) Ended(ctx context.Context, y Try, fitted bool) error {
	t.note("try %s fitted %t", y, fitted)
	return ctx.Err()
}
func (t *toy) Remaining(context.Context, Plan) (int, error) { return 2, nil }
func (t *toy) Locked(_ context.Context, _ Plan, wait time.Duration) error {
	t.note("locked %s", wait)
	return nil
}

type toySession struct{ *toy }

func (s *toySession) Access(context.Context) (device.Access, error) {
	if s.password == "" && !s.hides {
		return device.Fresh, nil
	}
	return device.Sealed, nil
}

func (s *toySession) Enter(_ context.Context, _ string, p secret.Password) (bool, error) {
	if s.lockedFor != nil {
		return false, &LockedError{Wait: *s.lockedFor}
	}
	return p.Reveal() == s.password, nil
}

func (s *toySession) Opens(_ context.Context, user string, p secret.Password) (bool, error) {
	s.note("opens %s", user)
	if s.loseOpens {
		s.loseOpens = false
		return false, ErrReplyLost
	}
	return s.users[user] == p.Reveal() && !s.forgetUser, nil
}

func (s *toySession) Encrypted() bool     { return s.encrypted }
func (s *toySession) Certificate() string { return s.shown }

func (s *toySession) Identity(context.Context) (Identity, error) { return s.identity, nil }

func (s *toySession) SetZone(_ context.Context, zone string) error {
	s.note("write zone")
	s.set.Settings.Zone = zone
	return nil
}

func (s *toySession) SetDNS(_ context.Context, list []netip.Addr) error {
	s.note("write dns")
	if s.refuses[StepDNS] || s.noDNSByDHCP && s.set.Settings.DHCP {
		return errors.New("not while DHCP is on")
	}
	s.set.DNS = Servers{Told: true, Addresses: list}
	return nil
}

func (s *toySession) SetNTP(_ context.Context, list []netip.Addr) error {
	s.note("write ntp")
	if s.refuseNTP {
		return errors.New("not supported")
	}
	s.set.NTP, s.set.ByNTP = Servers{Told: true, Addresses: list}, true
	return nil
}

func (s *toySession) CreateUser(_ context.Context, u User) error {
	s.note("write user")
	if s.picky != nil && !s.picky(u.Password.Reveal()) {
		return errors.New("too weak")
	}
	if s.users == nil {
		s.toy.users = map[string]string{}
	}
	s.users[u.Name] = u.Password.Reveal()
	s.set.Accounts = append(s.set.Accounts, u.Account)
	if s.loseUser {
		s.loseUser = false
		return ErrReplyLost
	}
	return nil
}

func (s *toySession) ChangeUser(_ context.Context, u User) error {
	s.note("write user")
	at := slices.IndexFunc(s.set.Accounts, func(a Account) bool { return a.Name == u.Name })
	s.set.Accounts[at] = u.Account
	if s.users == nil {
		s.toy.users = map[string]string{}
	}
	s.users[u.Name] = u.Password.Reveal()
	return nil
}

func (s *toySession) Read(context.Context) (Found, error) {
	if s.breakOff > 0 {
		s.breakOff--
		return Found{}, ErrReplyLost
	}
	f := s.set
	f.Serial = s.serial
	f.DNS.Told, f.NTP.Told = s.servers, s.servers
	f.Accounts = slices.Clone(f.Accounts)
	return f, nil
}

func (s *toySession) Rules(context.Context) (*secret.Rules, error) { return s.rules, nil }

func (s *toySession) SetPassword(_ context.Context, _ string, p secret.Password) error {
	s.note("write rekey")
	if s.picky != nil && !s.picky(p.Reveal()) {
		return errors.New("too weak")
	}
	s.password = p.Reveal()
	if s.loseRekey {
		return ErrReplyLost
	}
	return nil
}

func (s *toySession) CreateAdministrator(_ context.Context, _ string, p secret.Password) error {
	s.note("write key")
	if s.password != "" {
		return errors.New("not authorized")
	}
	if s.picky != nil && !s.picky(p.Reveal()) {
		return errors.New("too weak")
	}
	s.password = p.Reveal()
	if s.loseKey > 0 {
		s.loseKey--
		return ErrReplyLost
	}
	return nil
}

func (s *toySession) SetClock(context.Context) (time.Duration, error) {
	s.note("write clock")
	if s.closed || s.stubborn {
		return 0, ErrWindow
	}
	if s.refuses[StepClock] {
		return 0, errors.New("no clock")
	}
	if s.cancelAt == "clock" {
		s.cancel()
	}
	s.set.Clock, s.set.ByNTP = -s.late, false
	return s.late, nil
}

func (s *toySession) SetName(_ context.Context, n string) error {
	s.note("write name")
	if s.refuses[StepName] {
		return errors.New("no names")
	}
	if !s.forgets[StepName] {
		s.set.Settings.Name = n
	}
	return nil
}

func (s *toySession) SetAddress(_ context.Context, t device.Settings) (bool, error) {
	s.note("write address")
	if s.renews {
		s.shown += "2"
	}
	if s.loseBefore > 0 {
		s.loseBefore--
		return false, ErrReplyLost
	}
	if s.dhcpOnly || s.wantsGW && s.set.Settings.Gateway != gateway || s.frozen && s.set.Settings.DHCP && t.Address != s.at {
		return false, errors.New("not supported")
	}
	if s.gatewayOnce {
		s.gatewayOnce, s.set.Settings.Gateway = false, netip.Addr{}
	}
	if s.silentBoot {
		s.next = &t
		return false, nil
	}
	if s.needsBoot {
		s.next = &t
		return true, nil
	}
	s.set.Settings.Address, s.set.Settings.Prefix, s.set.Settings.DHCP, s.at = t.Address, t.Prefix, false, t.Address
	if s.loseMove > 0 {
		s.loseMove--
		return false, ErrReplyLost
	}
	return false, nil
}

func (s *toySession) SetGateway(_ context.Context, g netip.Addr) error {
	s.note("write gateway")
	if s.gatewayIn && s.at != newPlace {
		return errors.New("outside the subnet")
	}
	if !s.forgets[StepGateway] {
		s.set.Settings.Gateway = g
	}
	return nil
}

func (s *toySession) Restart(context.Context) error {
	s.note("write restart")
	if s.lazy == 0 {
		s.boot()
	}
	return ErrReplyLost
}

func (t *toy) boot() {
	if t.next != nil {
		t.set.Settings.Address, t.set.Settings.Prefix, t.at = t.next.Address, t.next.Prefix, t.next.Address
		t.next = nil
	}
}

func (s *toySession) Reset(context.Context) error {
	s.note("write reset")
	if s.keepsReset {
		return ErrReplyLost
	}
	s.password, s.at = "", netip.MustParseAddr("192.168.77.20")
	if s.answers {
		return nil
	}
	return ErrReplyLost
}

func (s *toySession) RefusesAnonymous(context.Context) (bool, error) { return !s.open, nil }
func (s *toySession) Close()                                         {}

func (t *toy) run(ctx context.Context, p Plan) Result {
	return Worker{Site: t, Journal: t, Attempts: t, Place: NewPlaces(1)}.Run(ctx, p)
}

func (t *toy) writes() []string {
	var out []string
	for _, l := range t.log {
		if rest, ok := cut(l, "write "); ok {
			out = append(out, rest)
		}
	}
	return out
}

func cut(s, prefix string) (string, bool) {
	if len(s) > len(prefix) && s[:len(prefix)] == prefix {
		return s[len(prefix):], true
	}
	return "", false
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
		{"sealed", func(d *toy, _ *Plan) { d.password = "someone's" }, "sealed", nil},
		{"sealed, and no key", func(d *toy, p *Plan) { d.password, p.Password = "someone's", secret.Password{} }, "no password for it", nil},
		{"reset since the survey", func(_ *toy, p *Plan) { p.Password = secret.Password{} }, "is fresh now", nil},
		{"budget spent", func(d *toy, _ *Plan) { d.password, d.budget = "someone's", 7*time.Minute }, "budget", nil},
		{"gone", func(d *toy, _ *Plan) { d.away = true }, "does not answer at 10.61.8.42 or 192.168.77.20", nil},
		{"another device", func(d *toy, _ *Plan) { d.serial = "S2" }, "serial S2, not S1", nil},
		{"address in use", func(d *toy, _ *Plan) { d.inUse = true }, "02:00:00:00:00:99", []string{"key", "clock", "name"}},
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
			assert.NotEmpty(t, r.Next)
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
func (noNotes) Ended(context.Context, Try, bool) error            { return nil }
func (noNotes) Remaining(context.Context, Plan) (int, error)      { return 2, nil }
func (noNotes) Locked(context.Context, Plan, time.Duration) error { return nil }

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
