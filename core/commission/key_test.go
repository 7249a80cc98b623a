package commission

import (
	"errors"
	"net/netip"
	"strings"
	"testing"
	"time"

	"janustat/core/setting"
	"janustat/core/settings/https"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/secret"
)

func key(plain string, o Origin) Credential { return Credential{"admin", secret.New(plain), o} }

func TestAFactoryPasswordIsReplacedAtOnce(t *testing.T) {
	d := newToy()
	d.password = "factory-1"
	p := plan()
	p.Password, p.Replace = secret.Password{}, secret.New("Quay-side7")
	p.Others = []Credential{key("Earlier-9", FromEarlier), key("factory-1", FromFactory)}
	r := d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []string{"rekey", "clock", "name", "address", "gateway"}, d.writes())
	assert.Equal(t, "Quay-side7", d.password)
	assert.Equal(t, key("Quay-side7", FromChange), r.Key)
	require.Len(t, r.Refused, 1)
	assert.Equal(t, key("Earlier-9", FromEarlier), r.Refused[0].Is())
	assert.False(t, r.Factory)
}

func TestAKeyOfEarlierWorkIsRememberedAndStays(t *testing.T) {
	d := newToy()
	d.password = "Earlier-9"
	p := plan()
	p.Password = secret.Password{}
	p.Others = []Credential{key("Earlier-9", FromEarlier)}
	r := d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, FromEarlier, r.Key.Origin)
	assert.Equal(t, "Earlier-9", d.password)
}

func TestKeysAreTriedWithinTheBudget(t *testing.T) {
	d := newToy()
	d.password, d.budget = "Nobody-Knows-1", 40*time.Minute
	p := plan()
	p.Others = []Credential{key("Earlier-9", FromEarlier)}
	r := d.run(t.Context(), p)
	assert.Equal(t, NeedsYou, r.Status)
	assert.Contains(t, r.Reason, "passwords not tried yet: 2")
	assert.Empty(t, r.Refused)
	d.budget = 0
	r = d.run(t.Context(), p)
	assert.Contains(t, r.Reason, "none on the keyring opens it")
	assert.Len(t, r.Refused, 2)
	assert.Empty(t, d.writes())
}

func TestAPickyDeviceIsOfferedAnotherForm(t *testing.T) {
	d := newToy()
	d.picky = func(plain string) bool { return !strings.Contains(plain, "-") }
	p := plan()
	var asked []string
	p.Another = func(s Step, refused Credential, o secret.Objection) (Credential, error) {
		asked = append(asked, string(s)+" "+refused.User+" "+refused.Password.Reveal()+" "+string(o.What))
		refused.Password = secret.New("QuaySide7")
		return refused, nil
	}
	r := d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []string{"key admin Quay-side7 too weak"}, asked)
	assert.Equal(t, "QuaySide7", r.Key.Password.Reveal())

	d = newToy()
	d.picky = func(string) bool { return false }
	times := 0
	p.Another = func(_ Step, refused Credential, _ secret.Objection) (Credential, error) {
		if times++; times > 2 {
			return Credential{}, nil
		}
		refused.Password = secret.New("x")
		return refused, nil
	}
	r = d.run(t.Context(), p)
	assert.Equal(t, NeedsYou, r.Status)
	assert.Contains(t, r.Reason, "too weak")
	p.Another = func(Step, Credential, secret.Objection) (Credential, error) {
		return Credential{}, errors.New("disk full")
	}
	assert.Contains(t, d.run(t.Context(), p).Reason, "disk full")
}

// A disk that is full when the outcome is to be recorded is no refusal by the device:
// it has the password that it was given, and no other takes its place.
func TestAnOutcomeThatCannotBeRecordedIsNoRefusal(t *testing.T) {
	d, p := newToy(), plan()
	d.endFails = true
	p.Another = func(Step, Credential, secret.Objection) (Credential, error) {
		t.Error("another password is made, though the device has taken the first")
		return Credential{}, nil
	}
	r := d.run(t.Context(), p)
	assert.Equal(t, NeedsYou, r.Status)
	assert.Contains(t, r.Reason, "disk full")
	assert.Equal(t, []string{"key"}, d.writes())

	d, p = newToy(), plan()
	d.password, d.set.Clock, d.endFails, d.servers = "Quay-side7", 0, true, true
	d.set.Settings.Name, d.set.Settings.DHCP = "Quay", true
	p.Target.DNS = []netip.Addr{gateway}
	r = d.run(t.Context(), p)
	assert.Equal(t, NeedsYou, r.Status)
	assert.Equal(t, []string{"dns"}, d.writes(), "nor of a setting that it can do without")
	assert.False(t, r.Reserved)
	assert.Empty(t, r.Notes)
}

// What a device wants of a password shows too when one is replaced, or a user made.
func TestOtherFormsForReplacementsAndUsers(t *testing.T) {
	d, p := newToy(), plan()
	d.password = "Quay-side7"
	d.picky = func(plain string) bool { return !strings.Contains(plain, "-") }
	p.Replace = secret.New("Next-4-all")
	p.Users = []User{{Account: Account{"viewer", Viewer}, Password: secret.New("View-9")}}
	forms := map[Step]string{StepRekey: "Next4all", StepUser: "View9"}
	p.Another = func(s Step, k Credential, _ secret.Objection) (Credential, error) {
		return Credential{User: k.User, Password: secret.New(forms[s])}, nil
	}
	w := Worker{Site: d, Journal: d, Attempts: d, Place: NewPlaces(1)}
	r := w.Change(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, "Next4all", d.password)
	assert.Equal(t, key("Next4all", FromChange), r.Key)
	p.Password = secret.New("Next4all")
	r = w.ChangeUsers(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []string{"rekey", "rekey", "user", "user"}, d.writes())
	assert.Equal(t, "View9", d.users["viewer"])
}

func TestChange(t *testing.T) {
	worker := func(d *toy) Worker { return Worker{Site: d, Journal: d, Attempts: d, Place: NewPlaces(1)} }
	p := plan()
	p.Replace = secret.New("Next-4-all")
	p.Others = []Credential{key("Next-4-all", FromChange)}
	d := newToy()
	d.password = "Quay-side7"
	r := worker(d).Change(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []string{"rekey"}, d.writes(), "nothing else is written")
	assert.Equal(t, key("Next-4-all", FromChange), r.Key)

	// The reply is lost: which of the two holds is found out, and it is not changed twice.
	d = newToy()
	d.password, d.loseRekey = "Quay-side7", true
	r = worker(d).Change(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []string{"rekey"}, d.writes())
	assert.Equal(t, FromChange, r.Key.Origin)
	assert.Equal(t, "Next-4-all", d.password)
}

func TestALostReplyToTheReplacementOfAFactoryPassword(t *testing.T) {
	d := newToy()
	d.password, d.loseRekey = "factory-1", true
	p := plan()
	p.Password, p.Replace = secret.Password{}, secret.New("Quay-side7")
	p.Others = []Credential{key("factory-1", FromFactory)}
	r := d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []string{"rekey", "clock", "name", "address", "gateway"}, d.writes())
	assert.False(t, r.Factory)
	assert.Equal(t, FromChange, r.Key.Origin)
}

func TestNoPasswordIsSetWithoutEncryptionWhereTheSheetRefusesIt(t *testing.T) {
	d, p := newToy(), plan()
	p.RequireTLS = true
	r := d.run(t.Context(), p)
	assert.Equal(t, NeedsYou, r.Status)
	assert.Contains(t, r.Reason, "has no HTTPS")
	assert.Empty(t, d.writes())
	d.encrypted = true
	r = d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Empty(t, d.inClear)

	d, p = newToy(), plan()
	d.set.Values = setting.Values{https.Name: https.Off}
	r = d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []Step{StepKey}, d.inClear)
	require.Len(t, r.Notes, 1)
	assert.Contains(t, r.Notes[0], "its HTTPS is off")
}

func TestALockedDeviceIsLeftAlone(t *testing.T) {
	d := newToy()
	wait := 30 * time.Minute
	d.password, d.lockedFor = "Quay-side7", &wait
	r := d.run(t.Context(), plan())
	assert.Equal(t, NeedsYou, r.Status)
	assert.Contains(t, r.Reason, "locked after too many wrong passwords, for another 30m")
	assert.Contains(t, d.log, "locked 30m0s")
	assert.Empty(t, d.writes())
	assert.Empty(t, r.Refused, "nothing was judged")
}

// What anybody may have said is told and not kept: no lock, and no refused key.
func TestAWordWithoutAWitnessIsNotKept(t *testing.T) {
	d := newToy()
	wait := 136 * 8766 * time.Hour
	d.password, d.lockedFor, d.unproven = "Quay-side7", &wait, true
	r := d.run(t.Context(), plan())
	assert.Equal(t, NeedsYou, r.Status)
	assert.Contains(t, r.Reason, "anybody on the LAN may have sent that")
	assert.Contains(t, r.Reason, "for another 1h0m0s", "no longer than the budget would ask for by itself")
	assert.NotContains(t, strings.Join(d.log, "\n"), "locked")

	d = newToy()
	d.password, d.unproven = "Something-else-9", true
	p := plan()
	p.Others = []Credential{key("Earlier-9", FromEarlier)}
	r = d.run(t.Context(), p)
	assert.Equal(t, NeedsYou, r.Status)
	assert.Empty(t, r.Refused)
	assert.Contains(t, r.Doubted, key("Earlier-9", FromEarlier))
}

func TestABrokenConversationIsTakenUpAgain(t *testing.T) {
	d := newToy()
	d.breakOff = 3
	r := d.run(t.Context(), plan())
	require.Equal(t, Done, r.Status, r.Reason)
	spent := 0
	for _, l := range d.log {
		if l == "spend" {
			spent++
		}
	}
	assert.LessOrEqual(t, spent, 1, "a password known to fit is no try")
	d = newToy()
	d.breakOff = 100
	assert.Equal(t, NeedsYou, d.run(t.Context(), plan()).Status, "not without end")
}

func TestADeviceThatTakesNothingButALease(t *testing.T) {
	d := newToy()
	d.dhcpOnly, d.set.Settings.DHCP = true, true
	r := d.run(t.Context(), plan())
	assert.Equal(t, NeedsYou, r.Status)
	assert.True(t, r.Reserved)
	assert.Contains(t, r.Next.String(), "reserve 10.61.8.42 for 02:00:00:00:00:01")
	d.at, d.set.Settings.Address, d.set.Settings.Prefix = newPlace, newPlace, 23
	p := plan()
	p.From, p.Target.DHCP = newPlace, true
	r = d.run(t.Context(), p)
	assert.Equal(t, Done, r.Status, r.Reason)
}

func TestByHandWaitsForTheDevice(t *testing.T) {
	d := newToy()
	p := plan()
	p.Manner = ByHand
	r := d.run(t.Context(), p)
	assert.Equal(t, NeedsYou, r.Status)
	assert.Contains(t, r.Next.String(), "address 10.61.8.42, mask 255.255.254.0, gateway 10.61.8.1, DHCP off")
	assert.Contains(t, d.log, "end unknown")
	d.at = newPlace
	r = d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Empty(t, d.writes())
	assert.Equal(t, newPlace, r.Left.Settings.Address)
	d.inUse, d.doubled = true, true
	assert.Contains(t, d.run(t.Context(), p).Reason, "Do not enter it")
	p.Manner, p.From = ByReservation, newPlace
	assert.Contains(t, d.run(t.Context(), p).Reason, "is not alone")
	d.unheard = true
	assert.Contains(t, d.run(t.Context(), p).Reason, "it is not known whether it is alone on", "nobody is accused")
}

func TestRestartAndReset(t *testing.T) {
	worker := func(d *toy) Worker { return Worker{Site: d, Journal: d, Attempts: d, Place: NewPlaces(1)} }
	d := newToy()
	d.password = "Quay-side7"
	r := worker(d).Restart(t.Context(), plan())
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []string{"restart"}, d.writes())
	d.answers = true
	r = worker(d).Reset(t.Context(), plan())
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, OutcomeDone, r.Reset)
	assert.Empty(t, d.password)
	d.password = "Nobody-Knows-1"
	r = worker(d).Reset(t.Context(), plan())
	assert.Equal(t, NeedsYou, r.Status)
	assert.Equal(t, "Nobody-Knows-1", d.password)
}

func TestAClosedSettingsWindowIsWaitedFor(t *testing.T) {
	d := newToy()
	d.closed = true
	r := d.run(t.Context(), plan())
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []string{"key", "clock", "clock", "name", "address", "gateway"}, d.writes(), "it goes on at once with what was refused")
	assert.Contains(t, d.log, "repowered")
	d = newToy()
	d.closed, d.noHands = true, true
	r = d.run(t.Context(), plan())
	assert.Equal(t, NeedsYou, r.Status)
	assert.Contains(t, r.Next.String(), "power it off and on")
}

// A key that has opened the device before costs nothing where its offer is cut short; one
// that may have been replaced since is a guess like any other.
func TestAConfirmedKeyIsNoGuess(t *testing.T) {
	own := Credential{User: "admin", Password: secret.New("Quay-side7")}
	p := Plan{User: own.User, Password: own.Password, Known: true}
	assert.True(t, p.Confirmed(own))
	for name, change := range map[string]func(p *Plan, k *Credential){
		"never opened":       func(p *Plan, _ *Credential) { p.Known = false },
		"being replaced":     func(p *Plan, _ *Credential) { p.Replace = secret.New("Next-side7") },
		"maybe replaced":     func(p *Plan, _ *Credential) { p.Others = []Credential{key("Next-side7", FromChange)} },
		"another user":       func(_ *Plan, k *Credential) { k.User = "root" },
		"of earlier work":    func(_ *Plan, k *Credential) { k.Origin = FromEarlier },
		"another password":   func(_ *Plan, k *Credential) { k.Password = secret.New("x") },
		"a factory's, known": func(_ *Plan, k *Credential) { k.Origin = FromFactory },
	} {
		q, k := p, own
		change(&q, &k)
		assert.False(t, q.Confirmed(k), name)
	}
}
