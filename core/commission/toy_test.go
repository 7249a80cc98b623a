package commission

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"janustat/core/device"
	"janustat/core/evidence"
	"janustat/core/secret"
	"janustat/core/settings/outside"
)

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
	rtsp        uint16
	mutePorts   bool           // it does not say which that is
	shutPorts   bool           // it plays at the port that it has
	outside     *outside.Links // nil does not tell
	keepsLinks  bool           // it says that they are removed, and keeps them
	hidden      bool           // discovery is off
	unheard     bool           // no silence says anything: the wire lets too few questions pass
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
	cuts        int           // how much it keeps of a password; 0 is all
	hides       bool          // tells nobody whether it has an administrator
	silentBoot  bool          // it uses an address after a restart, for which it does not ask
	deaf        int           // it hears nothing of so many restarts
	lazy        int           // it acts on a restart when it has been waited for
	gatewayOnce bool          // it forgets its gateway when it gets an address, once
	gatewayIn   bool          // it takes only a gateway in the subnet it is in
	wantsGW     bool          // it takes an address only once its gateway is set
	frozen      bool          // it takes an address only with DHCP off
	noDNSByDHCP bool          // it takes DNS servers only with DHCP off
	stalls      bool          // it never ends its answer to a reading
	lateUsers   int           // pauses until it knows of the password that it has taken
	doubled     bool          // somebody else has been given its address
	unproven    bool          // anybody may have said what it says
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

func (t *toy) Pause(context.Context) error {
	t.lateUsers = max(0, t.lateUsers-1)
	return nil
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
	return at, at == was && (t.lazy > 0 || t.next != nil), err
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

func (t *toy) Alone(context.Context, Plan) Claim { return verdict{t} }

// verdict is how looking whether a device is alone ends.
type verdict struct{ *toy }

func (v verdict) Wait(context.Context) error {
	switch {
	case v.unheard:
		return errors.New("too few questions pass")
	case v.doubled:
		return ErrInUse
	}
	return nil
}

func (t *toy) Wait(context.Context) error {
	if t.unheard {
		return errors.New("too few questions pass")
	}
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
func (t *toy) Unmade(context.Context, Try) error            { return nil }

func (t *toy) Locked(_ context.Context, _ Plan, told evidence.Proven[time.Duration]) error {
	wait := told.Is()
	t.note("locked %s", wait)
	return nil
}

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
