package bench

import (
	"net/netip"
	"slices"
	"time"

	"janustat/internal/speak/hail"
)

// Spoil is somebody else at a recorder: the receiver of a channel, counted from 1, is given
// another password.
func (d *Device) Spoil(channel int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	v := d.state.recorder.receiver(d.state.recorder.jobs[channel-1].receiver)
	v.password, v.state, v.fault = "Somebody-else-1", "", ""
	d.anew(v)
}

// Swap is somebody else at a recorder: two channels show each other's camera.
func (d *Device) Swap(one, other int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	r := &d.state.recorder
	a, b := r.receiver(r.jobs[one-1].receiver), r.receiver(r.jobs[other-1].receiver)
	a.uri, b.uri = b.uri, a.uri
	d.anew(a)
	d.anew(b)
}

// Outrank is somebody else at a recorder: a job of a higher priority fills a channel from
// another camera.
func (d *Device) Outrank(channel int, uri string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	r := &d.state.recorder
	v := receiver{token: r.token("Rcv"), uri: uri}
	r.receivers = append(r.receivers, v)
	r.jobs = append(r.jobs, recordingJob{token: r.token("Job"), recording: r.recordings[channel-1].token, receiver: v.token, mode: "Active", priority: 9})
}

// Relay is somebody else at a recorder: a channel is laid otherwise, its receiver and job with
// it, and begins anew.
func (d *Device) Relay(channel int, change func(*Laid)) {
	all, _ := d.Laid()
	d.mu.Lock()
	defer d.mu.Unlock()
	r, l := &d.state.recorder, all[channel-1]
	change(&l)
	x := &r.recordings[channel-1]
	x.id, x.name, x.location, x.retention, x.content = l.Source, l.Name, l.Location, l.Retention, l.Content
	at := slices.IndexFunc(r.jobs, func(j recordingJob) bool { return j.recording == x.token })
	if at < 0 {
		return
	}
	j := &r.jobs[at]
	v := r.receiver(j.receiver)
	if l.Job == "none" {
		r.jobs = slices.Delete(r.jobs, at, at+1)
	} else {
		j.mode, j.priority = l.Job, l.Priority
	}
	if v == nil {
		return
	}
	v.uri, v.user, v.password, v.mode, v.stream, v.protocol, v.state, v.fault = l.URI, l.User, l.Password, l.Mode, l.Stream, l.Protocol, "", ""
	if v.changed != nil {
		close(v.changed)
		v.changed = nil
	}
	if l.Job == "Active" {
		d.startReceiver(v)
	}
}

// Unlink is somebody else at a recorder: the receiver of a channel is taken away, its job left.
func (d *Device) Unlink(channel int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	r := &d.state.recorder
	for i := range r.jobs {
		if j := &r.jobs[i]; j.recording == r.recordings[channel-1].token {
			r.drop(j.receiver)
			j.receiver = ""
		}
	}
}

// Behave has a device take on a manner, or leave it.
func (d *Device) Behave(manner string, yes bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.unit.Manners = slices.DeleteFunc(slices.Clone(d.unit.Manners), func(m string) bool { return m == manner })
	if yes {
		d.unit.Manners = append(d.unit.Manners, manner)
	}
}

// anew has a receiver begin again. The lock is held.
func (d *Device) anew(v *receiver) {
	if v.changed != nil {
		close(v.changed)
	}
	v.changed = nil
	d.startReceiver(v)
}

// Watched gives, by channel in the order they were made, where a recorder's receivers
// connect to and how that is.
func (d *Device) Watched() (uris, states []string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, j := range d.state.recorder.jobs {
		if v := d.state.recorder.receiver(j.receiver); v != nil {
			uris, states = append(uris, v.uri), append(states, v.state)
		}
	}
	return uris, states
}

// Confide is somebody else at a station: what it knows of the others has another secret.
func (d *Device) Confide() {
	d.mu.Lock()
	defer d.mu.Unlock()
	for i := range d.state.hail.pairs {
		d.state.hail.pairs[i].Secret = "Somebody-else-2"
	}
	select {
	case d.paired <- struct{}{}:
	default:
	}
}

// Befriend is somebody else at a station: it is told of one more.
func (d *Device) Befriend(serial string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.state.hail.pairs = append(d.state.hail.pairs, hail.Pair{Serial: serial, Flat: "999", Secret: "Somebody-else-3"})
}

// Misdirect is somebody else at a panel: it reports elsewhere.
func (d *Device) Misdirect() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if s := d.state.hail.server; s != nil {
		s.Port++
		s.Connected = false
		d.callHome()
	}
}

// Paired gives how many registrations a station has.
func (d *Device) Paired() (n int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, p := range d.state.hail.pairs {
		if p.Registered {
			n++
		}
	}
	return n
}

// Stall has a device wait before each answer from now on.
func (d *Device) Stall(wait time.Duration) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.unit.Slow = wait
}

// Blind takes a camera's stream away, or gives it back; who watches it is cut off.
func (d *Device) Blind(yes bool) {
	d.mu.Lock()
	d.blinded = yes
	watched := d.viewers
	d.viewers = nil
	d.mu.Unlock()
	for _, c := range watched {
		_ = c.Close()
	}
}

// FollowNTP has the clock follow a server, which is away: it goes as it went.
func (d *Device) FollowNTP() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.state.byNTP, d.state.ntp = true, []netip.Addr{netip.AddrFrom4([4]byte{10, 61, 8, 250})}
}

// FollowsNTP reports whether the clock follows a server.
func (d *Device) FollowsNTP() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.state.byNTP
}

// OpenedBy reports whether a password opens the device for an administrator.
func (d *Device) OpenedBy(password string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, a := range d.state.users {
		if a.level == "Administrator" && a.password == password {
			return true
		}
	}
	return false
}

// Rekey is somebody else at a device: a user gets another password, and with "" is taken away.
func (d *Device) Rekey(user, password string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	a, ok := d.state.users[user]
	if a.password = password; ok && password != "" {
		d.state.users[user] = a
	} else {
		delete(d.state.users, user)
	}
}

// Replay is somebody else at a device: it plays its picture at another port.
func (d *Device) Replay(port uint16) {
	d.mu.Lock()
	d.state.rtsp = port
	d.mu.Unlock()
	d.restream()
}
