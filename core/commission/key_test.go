package commission

import (
	"errors"
	"strings"
	"testing"
	"time"

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
	assert.Equal(t, []Credential{key("Earlier-9", FromEarlier)}, r.Refused)
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
	assert.Contains(t, r.Reason, "keys not tried yet: 2")
	assert.Empty(t, r.Refused)
	d.budget = 0
	r = d.run(t.Context(), p)
	assert.Contains(t, r.Reason, "no key on the keyring opens it")
	assert.Len(t, r.Refused, 2)
	assert.Empty(t, d.writes())
}

func TestAPickyDeviceIsOfferedAnotherForm(t *testing.T) {
	d := newToy()
	d.picky = func(plain string) bool { return !strings.Contains(plain, "-") }
	p := plan()
	var asked []int
	p.Another = func(refused int) (secret.Password, error) {
		asked = append(asked, refused)
		return secret.New("QuaySide7"), nil
	}
	r := d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []int{1}, asked)
	assert.Equal(t, "QuaySide7", r.Key.Password.Reveal())

	d = newToy()
	d.picky = func(string) bool { return false }
	p.Another = func(refused int) (secret.Password, error) {
		if refused > 2 {
			return secret.Password{}, nil
		}
		return secret.New("x"), nil
	}
	r = d.run(t.Context(), p)
	assert.Equal(t, NeedsYou, r.Status)
	assert.Contains(t, r.Reason, "too weak")
	p.Another = func(int) (secret.Password, error) { return secret.Password{}, errors.New("disk full") }
	assert.Contains(t, d.run(t.Context(), p).Reason, "disk full")
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

	// The reply is lost: the next run finds out which of the two holds.
	d = newToy()
	d.password, d.loseRekey = "Quay-side7", true
	r = worker(d).Change(t.Context(), p)
	require.Equal(t, NeedsYou, r.Status)
	assert.Contains(t, r.Next, "which of the two holds")
	r = worker(d).Change(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []string{"rekey"}, d.writes(), "it is not changed twice")
	assert.Equal(t, FromChange, r.Key.Origin)
}

func TestADeviceThatTakesNothingButALease(t *testing.T) {
	d := newToy()
	d.dhcpOnly, d.set.Settings.DHCP = true, true
	r := d.run(t.Context(), plan())
	assert.Equal(t, NeedsYou, r.Status)
	assert.True(t, r.Reserved)
	assert.Contains(t, r.Next, "reserve 10.61.8.42 for 02:00:00:00:00:01")
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
	assert.Contains(t, r.Next, "address 10.61.8.42, mask 255.255.254.0, gateway 10.61.8.1, DHCP off")
	assert.Contains(t, d.log, "end unknown")
	d.at = newPlace
	r = d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Empty(t, d.writes())
	assert.Equal(t, newPlace, r.Left.Settings.Address)
	d.inUse = true
	assert.Contains(t, d.run(t.Context(), p).Reason, "do not type it in")
	p.Manner, p.From = ByReservation, newPlace
	assert.Contains(t, d.run(t.Context(), p).Reason, "is not alone")
}

func TestRestartAndReset(t *testing.T) {
	worker := func(d *toy) Worker { return Worker{Site: d, Journal: d, Attempts: d, Place: NewPlaces(1)} }
	d := newToy()
	d.password = "Quay-side7"
	r := worker(d).Restart(t.Context(), plan())
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []string{"restart"}, d.writes())
	r = worker(d).Reset(t.Context(), plan())
	require.Equal(t, Done, r.Status, r.Reason)
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
	assert.Contains(t, r.Next, "power it off and on")
}
