package commission

import (
	"context"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/advice"
	"janustat/core/device"
	"janustat/core/secret"
)

func worker(d *toy) Worker { return Worker{Site: d, Journal: d, Attempts: d, Place: NewPlaces(1)} }

// commands are all that can be done to a device by its service.
var commands = map[string]func(Worker, context.Context, Plan) Result{
	"commission": Worker.Run, "key change": Worker.Change, "key change --user": Worker.ChangeUsers, "restart": Worker.Restart, "reset": Worker.Reset,
}

// One that was opened before and is not what it was is sent nothing, by no command.
func TestADeviceThatIsNotWhatItWasIsAnAlarm(t *testing.T) {
	secure := &device.TLS{Port: 443, Fingerprint: "aa00"}
	for name, c := range map[string]struct {
		make func(*toy, *Plan)
		why  string
	}{
		"fresh again":         {func(d *toy, _ *Plan) { d.password = "" }, "says that it has no password"},
		"another certificate": {func(d *toy, p *Plan) { p.TLS, d.encrypted, d.shown = secure, true, "bb11" }, "another certificate"},
		"another serial":      {func(d *toy, _ *Plan) { d.identity.Serial = "S2" }, "serial number is S2, not S1"},
		"another endpoint":    {func(d *toy, p *Plan) { p.Endpoint, d.identity.Endpoint = "urn:1", "urn:2" }, "endpoint"},
	} {
		for verb, run := range commands {
			d, p := newToy(), plan()
			d.password, p.Known = "Quay-side7", true
			p.Replace, p.Others = secret.New("Next-4-all"), []Credential{key("Earlier-9", FromEarlier)}
			p.Users = []User{{Account: Account{"viewer", Viewer}, Password: secret.New("View-9")}}
			c.make(d, &p)
			r := run(worker(d), t.Context(), p)
			assert.Equal(t, NeedsYou, r.Status, "%s: %s", name, verb)
			assert.Contains(t, r.Alarm, c.why, "%s: %s", name, verb)
			assert.Contains(t, r.Next.String(), "restore C01")
			assert.Empty(t, d.writes(), "%s: %s", name, verb)
			assert.NotContains(t, d.log, "spend", "%s: %s offers a password", name, verb)
		}
	}
}

// None but commission gives a fresh device its first password.
func TestOnlyCommissionCreatesAnAdministrator(t *testing.T) {
	for verb, run := range commands {
		d, p := newToy(), plan()
		p.Replace = secret.New("Next-4-all")
		r := run(worker(d), t.Context(), p)
		if verb == "commission" {
			assert.Equal(t, Done, r.Status, r.Reason)
			continue
		}
		assert.Equal(t, NeedsYou, r.Status, verb)
		assert.Contains(t, r.Reason, "has no password", verb)
		assert.Empty(t, d.writes(), verb)
	}
}

func TestADeviceThatWasNeverOpenedAndIsAnotherIsTold(t *testing.T) {
	d, p := newToy(), plan()
	p.TLS, d.encrypted, d.shown = &device.TLS{Port: 443, Fingerprint: "aa00"}, true, "bb11"
	r := d.run(t.Context(), p)
	assert.Empty(t, r.Alarm)
	assert.Contains(t, r.Reason, "another certificate than when it was surveyed")
	assert.Contains(t, r.Next.String(), "survey")
	assert.Empty(t, d.writes())

	d, p = newToy(), plan()
	p.MuteTLS = "no answer within 20s"
	r = d.run(t.Context(), p)
	assert.Contains(t, r.Reason, "its HTTPS does not work")
	assert.Empty(t, d.writes())

	d, p = newToy(), plan()
	p.Stop = &Trouble{Reason: "its password rules cannot be met", Next: advice.Say("leave it")}
	r = d.run(t.Context(), p)
	assert.Equal(t, NeedsYou, r.Status)
	assert.Equal(t, "its password rules cannot be met", r.Reason)
	assert.Empty(t, d.log)
}

// Some make another certificate when they get another address: right after it was
// sent, that is no alarm.
func TestACertificateThatIsMadeAnewWithTheAddress(t *testing.T) {
	d, p := newToy(), plan()
	p.TLS, d.encrypted, d.shown, d.renews = &device.TLS{Port: 443, Fingerprint: "aa"}, true, "aa", true
	r := d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Contains(t, r.Notes[0], "another certificate with its new name or address")
	// So it is where the last run was cut short in between, and not at any other time.
	p.From, p.Known = newPlace, true
	assert.Contains(t, d.run(t.Context(), p).Alarm, "another certificate")
	p.Renewing = true
	assert.Equal(t, Done, d.run(t.Context(), p).Status)
}

// What was just confirmed to open a device is offered without spending a try; refused
// all the same, it counts, and is not offered as known again.
func TestAKnownKeyThatIsRefusedCounts(t *testing.T) {
	d, p := newToy(), plan()
	d.password, d.needsBoot = "Quay-side7", true
	s := &toySession{toy: d}
	r := &run{Worker: worker(d), plan: p, session: s, sure: key("Quay-side7", FromKeyring), result: Result{Spent: map[Step]time.Duration{}}}
	d.password = "changed by somebody"
	ok, err := r.try(t.Context(), key("Quay-side7", FromKeyring), 1)
	require.NoError(t, err)
	assert.False(t, ok)
	assert.Equal(t, []string{"spend", "try Quay-side7 fitted false"}, d.log)
	assert.True(t, r.sure.Password.IsZero())
	require.Len(t, r.result.Refused, 1)
	assert.Equal(t, key("Quay-side7", FromKeyring), r.result.Refused[0].Is())
}

// A refusal after a rekey counts too.
func TestARefusalAfterARekeyCounts(t *testing.T) {
	d, p := newToy(), plan()
	d.password, p.Replace = "Quay-side7", secret.New("Next-4-all")
	w := worker(d)
	w.Site = forgetful{d}
	r := w.Change(t.Context(), p)
	assert.Equal(t, NeedsYou, r.Status)
	assert.Contains(t, r.Reason, "is not opened by it")
	assert.Contains(t, d.log, "try Next-4-all fitted false")
}

// forgetful is a site whose device takes another password and keeps its own.
type forgetful struct{ *toy }

func (f forgetful) Open(ctx context.Context, p Plan, at netip.Addr) (Session, error) {
	s, err := f.toy.Open(ctx, p, at)
	return forgetfulSession{s.(*toySession)}, err
}

type forgetfulSession struct{ *toySession }

func (forgetfulSession) SetPassword(context.Context, string, secret.Password) error { return nil }

// The outcome of a write is recorded though the run is stopped in the middle of it; the
// device needs another run, and nothing more is sent.
func TestAnInterruptionMidway(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	d := newToy()
	d.cancel, d.cancelAt = cancel, "clock"
	w := worker(d)
	w.Site = strict{d}
	r := w.Run(ctx, plan())
	assert.Equal(t, NeedsYou, r.Status)
	assert.Equal(t, "interrupted", r.Reason)
	assert.Contains(t, r.Next.String(), "goes on from here")
	at := slices.Index(d.log, "write clock")
	require.Positive(t, at)
	assert.Equal(t, []string{"write clock", "end done"}, d.log[at:], "nothing is begun after that")
	d.cancelAt = ""
	r = d.run(t.Context(), plan())
	require.Equal(t, Done, r.Status, r.Reason)
}

// strict is a site that does nothing once the run is stopped.
type strict struct{ *toy }

func (s strict) Open(ctx context.Context, p Plan, at netip.Addr) (Session, error) {
	x, err := s.toy.Open(ctx, p, at)
	return strictSession{x.(*toySession)}, err
}

func (s strict) Find(ctx context.Context, p Plan, places []netip.Addr) (netip.Addr, error) {
	if ctx.Err() != nil {
		s.note("looked for after the end")
		return netip.Addr{}, ctx.Err()
	}
	return s.toy.Find(ctx, p, places)
}

type strictSession struct{ *toySession }

func (s strictSession) SetName(ctx context.Context, name string) error {
	if ctx.Err() != nil {
		return ErrReplyLost // as a request that is cut off
	}
	return s.toySession.SetName(ctx, name)
}

// A conversation that breaks off since the run was stopped is not taken up again.
func TestNothingIsTakenUpAgainAfterTheEnd(t *testing.T) {
	for verb, run := range commands {
		ctx, cancel := context.WithCancel(t.Context())
		d, p := newToy(), plan()
		d.password, p.Replace = "Quay-side7", secret.New("Next-4-all")
		w := worker(d)
		w.Site = stopping{strict{d}, cancel}
		r := run(w, ctx, p)
		assert.NotEqual(t, Done, r.Status, verb)
		assert.NotContains(t, d.log, "looked for after the end", verb)
	}
}

// stopping is a site where the run is stopped while a device is read.
type stopping struct {
	strict
	cancel func()
}

func (s stopping) Open(ctx context.Context, p Plan, at netip.Addr) (Session, error) {
	x, err := s.toy.Open(ctx, p, at)
	return stoppingSession{x.(*toySession), s.cancel}, err
}

type stoppingSession struct {
	*toySession
	cancel func()
}

func (s stoppingSession) Read(context.Context) (Found, error) {
	s.cancel()
	return Found{}, ErrReplyLost
}

// Each pass that sets an address has it probed anew: who was not there before may be now.
func TestEveryPassProbesAnew(t *testing.T) {
	d := newToy()
	d.loseBefore = 1
	require.Equal(t, Done, d.run(t.Context(), plan()).Status)
	probes := 0
	for _, l := range d.log {
		if l == "probe" {
			probes++
		}
	}
	assert.Equal(t, 2, probes, "one for each time the address was sent")
}

// A device with another MAC than the planned one, whatever its serial, is another.
func TestTheMACOfItsOwnInterfacesIsCompared(t *testing.T) {
	d := newToy()
	d.set.MACs = []device.MAC{{2, 9}}
	r := d.run(t.Context(), plan())
	assert.Equal(t, NeedsYou, r.Status)
	assert.Contains(t, r.Reason, "another device answers")
	assert.NotContains(t, d.log, "as left")
	d.set.MACs = []device.MAC{{2, 9}, own}
	assert.Equal(t, Done, d.run(t.Context(), plan()).Status)
}

// Nobody is asked to power a device off and on more than once for one setting.
func TestPowerIsAskedForOnce(t *testing.T) {
	d := newToy()
	d.stubborn = true
	r := d.run(t.Context(), plan())
	assert.Equal(t, NeedsYou, r.Status)
	assert.Contains(t, r.Reason, "takes no settings even right after power-on (clock UTC now)")
	asked := 0
	for _, l := range d.log {
		if l == "repowered" {
			asked++
		}
	}
	assert.Equal(t, 1, asked)
}

func TestAResetWhoseAnswerIsLostIsLookedFor(t *testing.T) {
	d := newToy()
	d.password = "Quay-side7"
	r := worker(d).Reset(t.Context(), plan())
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, OutcomeDone, r.Reset, "it is there, and fresh")
	assert.Contains(t, d.log, "end unknown")

	d = newToy()
	d.password, d.keepsReset = "Quay-side7", true
	r = worker(d).Reset(t.Context(), plan())
	assert.Equal(t, NeedsYou, r.Status)
	assert.Equal(t, OutcomeRefused, r.Reset)
	assert.Contains(t, r.Reason, "is as it was")

	d, p := newToy(), plan()
	d.password, d.at, p.From = "Quay-side7", newPlace, newPlace
	r = worker(d).Reset(t.Context(), p) // it comes back at its factory address
	assert.Equal(t, NeedsYou, r.Status)
	assert.Equal(t, OutcomeUnknown, r.Reset)
	assert.Contains(t, r.Reason, "whether it was is not known")
	assert.Contains(t, r.Next.String(), "survey")
}

// As found is as it was before the first write, where a device without a password tells it.
func TestAsFoundIsBeforeTheFirstWrite(t *testing.T) {
	d := newToy()
	require.Equal(t, Done, d.run(t.Context(), plan()).Status)
	assert.Less(t, slices.Index(d.log, "as found"), slices.Index(d.log, "begin key"))
}

// One that has a name keeps it, unless it is to have another.
func TestANameIsKept(t *testing.T) {
	d, p := newToy(), plan()
	p.Target.Name, p.Unnamed = "", "C01"
	require.Equal(t, Done, d.run(t.Context(), p).Status)
	assert.Equal(t, "Dome", d.set.Settings.Name)
	d = newToy()
	d.set.Settings.Name = " "
	require.Equal(t, Done, d.run(t.Context(), p).Status)
	assert.Equal(t, "C01", d.set.Settings.Name)
}

// The time of a run is told whole: the steps leave nothing of it out.
func TestTimeIsToldWhole(t *testing.T) {
	d := newToy()
	d.lateFor = 30 * time.Second
	r := d.run(t.Context(), plan())
	require.Equal(t, Done, r.Status)
	var sum time.Duration
	for _, took := range r.Spent {
		sum += took
	}
	assert.GreaterOrEqual(t, r.Spent[StepOpen], 30*time.Second)
	assert.LessOrEqual(t, sum, r.Took, "no second is told twice")
	// This clock goes on by a second whenever it is looked at, between the steps too.
	assert.Less(t, r.Took-sum, 25*time.Second, "%s of %s", sum, r.Took)
}

// A cable that is out at the laptop is no fault of the device: once it is back, the run
// goes on.
func TestTheLaptopsOwnCable(t *testing.T) {
	d := newToy()
	d.away, d.cableOut = true, true
	r := d.run(t.Context(), plan())
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Contains(t, d.log, "cable back")
	d = newToy()
	d.away = true
	assert.Equal(t, NeedsYou, d.run(t.Context(), plan()).Status, "a device that is away, with the cable in, is told")
}
