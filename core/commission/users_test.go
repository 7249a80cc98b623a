package commission

import (
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/secret"
)

func TestServersAndTheClockThatFollowsThem(t *testing.T) {
	dns, ntp := []netip.Addr{gateway}, []netip.Addr{gateway, newPlace}
	d, p := newToy(), plan()
	d.servers = true
	p.Target.DNS, p.Target.NTP = dns, ntp
	r := d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []string{"key", "clock", "name", "dns", "ntp", "address", "gateway"}, d.writes())
	assert.Equal(t, ntp, r.Left.NTP.Addresses)
	// A clock that follows NTP and is off is set by hand, and made to follow it again.
	d.log, d.set.Clock = nil, time.Minute
	p.From = newPlace
	require.Equal(t, Done, d.run(t.Context(), p).Status)
	assert.Equal(t, []string{"clock", "ntp"}, d.writes())

	d, p = newToy(), plan()
	d.late = 900 * time.Millisecond
	require.Equal(t, Done, d.run(t.Context(), p).Status)
	assert.Equal(t, []string{"up to 900ms late: the answer took that long"}, d.details)

	d, p = newToy(), plan()
	d.servers, d.refuseNTP = true, true
	p.Target.NTP = ntp
	r = d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []string{"key", "clock", "name", "ntp", "address", "ntp", "gateway"}, d.writes(), "what it refuses is asked of it once more at its new address, and not again")
	require.Len(t, r.Notes, 1)
	assert.Contains(t, r.Notes[0], "refuses its NTP (10.61.8.1 10.61.8.42)")

	d, p = newToy(), plan()
	p.Target.DNS, p.Target.NTP = dns, ntp
	require.Equal(t, Done, d.run(t.Context(), p).Status)
	assert.Equal(t, []string{"key", "clock", "name", "address", "gateway"}, d.writes(), "a device without the settings is not given them")
}

func TestFurtherUsersAreMadeOnce(t *testing.T) {
	for name, lost := range map[string]bool{"in one go": false, "with the reply lost": true} {
		d, p := newToy(), plan()
		d.loseUser = lost
		d.set.Accounts = []Account{{"guest", Administrator}}
		p.Users = []User{{Account: Account{"viewer", Viewer}, Password: secret.New("View-9")}, {Account: Account{"guest", Operator}, Password: secret.New("Guest-9")}}
		r := d.run(t.Context(), p)
		require.Equal(t, Done, r.Status, "%s: %s", name, r.Reason)
		want := []string{"key", "clock", "name", "user", "user", "address", "gateway"}
		if lost {
			want = []string{"key", "clock", "name", "user", "user", "address", "gateway"} // it is found out, and not written over
		}
		assert.Equal(t, want, d.writes(), name)
		assert.Equal(t, []Account{{"guest", Operator}, {"viewer", Viewer}}, d.set.Accounts)
		assert.False(t, p.Users[0].Made, "the caller's plan is its own")

		before := len(d.writes())
		p.From = newPlace
		for i := range p.Users {
			p.Users[i].Made = true
		}
		require.Equal(t, Done, d.run(t.Context(), p).Status)
		assert.Len(t, d.writes(), before)
	}
}

func TestFurtherUsersAreChangedAlone(t *testing.T) {
	d, p := newToy(), plan()
	d.password, d.loseUser = "Quay-side7", true
	p.Users = []User{{Account: Account{"viewer", Viewer}, Password: secret.New("View-10")}}
	w := Worker{Site: d, Journal: d, Attempts: d, Place: NewPlaces(1)}
	r := w.ChangeUsers(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []string{"user"}, d.writes(), "a lost reply is made sure of, and nothing is written over it")
	assert.Equal(t, []Account{{"viewer", Viewer}}, d.set.Accounts)
	assert.Contains(t, d.log, "opens viewer", "the password is proved")
	p.Users[0].Made = true
	require.Equal(t, Done, w.ChangeUsers(t.Context(), p).Status)
	assert.Len(t, d.writes(), 1)
}

func TestAFurtherUserWhosePasswordDoesNotOpenIsTold(t *testing.T) {
	for name, run := range map[string]func(Worker, Plan) Result{
		"commission": func(w Worker, p Plan) Result { return w.Run(t.Context(), p) },
		"change":     func(w Worker, p Plan) Result { return w.ChangeUsers(t.Context(), p) },
	} {
		d, p := newToy(), plan()
		d.password, d.loseOpens, d.forgetUser = "Quay-side7", true, true
		p.Users = []User{{Account: Account{"viewer", Viewer}, Password: secret.New("View-10")}}
		r := run(Worker{Site: d, Journal: d, Attempts: d, Place: NewPlaces(1)}, p)
		assert.Equal(t, NeedsYou, r.Status, name)
		assert.Equal(t, "took a password for viewer and is not opened by it", r.Reason, name)
		assert.Contains(t, r.Next.String(), "key change C01 viewer", name)
		spent := slices.Index(d.log[slices.Index(d.log, "opens viewer"):], "spend")
		assert.Positive(t, spent, "%s: a refused password is a try", name)
	}
}
