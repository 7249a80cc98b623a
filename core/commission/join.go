package commission

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"janustat/core/advice"
	"janustat/core/device"
	"janustat/core/secret"
)

// stream looks how others watch the device, as they will do it: by their own user.
func (r *run) stream(ctx context.Context, f *Found) error {
	if r.plan.Watched == "" {
		return nil
	}
	at := slices.IndexFunc(r.plan.Users, func(u User) bool { return u.Name == r.plan.Watched })
	if at < 0 {
		return nil
	}
	if !r.plan.Users[at].Made {
		f.NoStream = "its user " + r.plan.Watched + " could not be made"
		return nil
	}
	t := r.talk()
	defer t.Close()
	s, err := Watch(ctx, t, r.plan.Users[at])
	for err != nil && !errors.Is(err, errNotWatched) && r.Site.Now().Before(r.playsBy) {
		if err := r.Site.Pause(ctx); err != nil {
			return err
		}
		s, err = Watch(ctx, t, r.plan.Users[at])
	}
	if errors.Is(err, errNotWatched) {
		if changed, rerr := r.rewatched(ctx, at); rerr != nil {
			return rerr
		} else if changed {
			s, err = Watch(ctx, t, r.plan.Users[at])
		}
	}
	switch {
	case errors.Is(err, ErrReplyLost) && ctx.Err() != nil:
		return err
	case err != nil:
		f.NoStream = err.Error()
		r.note("shows no stream: " + err.Error())
	default:
		f.Stream = &s
	}
	return nil
}

// rewatched gives the user that watches its password again, where it has watched before:
// somebody has changed it. It reports whether that was so. That it is wrong is not tried a second
// time: each is one of those that lock a camera.
func (r *run) rewatched(ctx context.Context, at int) (bool, error) {
	u := &r.plan.Users[at]
	if _, err := able[UserKeeper](r.session, "users"); err != nil || r.plan.Peer.Stream.Path == "" || r.mended["user "+u.Name] {
		return false, nil //nolint:nilerr // one without users has refused it for another reason
	}
	r.mended["user "+u.Name], u.Made = true, false
	if err := r.users(ctx); err != nil {
		return false, err
	}
	return true, r.usersOpen(ctx)
}

// errNotWatched means that a stream is refused to a user.
var errNotWatched = errors.New("its stream is refused")

// Watch looks how a user watches the stream of a device. The user has opened the device
// before, so that this is no try, unless it turns out to be wrong.
func Watch(ctx context.Context, t *Talk, u User) (s device.Stream, err error) {
	a, err := Ability[Streamer](ctx, t, "stream")
	if err != nil {
		return s, err
	}
	fits, err := OfferSure(ctx, t.Attempts, t.Plan, Credential{User: u.Name, Password: u.Password}, func(ctx context.Context, user string, p secret.Password) (fits bool, err error) {
		s, fits, err = a.Stream(ctx, user, p)
		return fits, err
	})
	if err == nil && !fits {
		err = fmt.Errorf("%w to the user %s", errNotWatched, u.Name)
	}
	return s, err
}

// talk is what is said with the device, in all its tongues.
func (r *run) talk() *Talk {
	return &Talk{Site: r.Site, Attempts: r.Attempts, Plan: r.plan, At: r.at, Main: r.session, Key: r.sure}
}

// settled tells the others that the device is where it is to be.
func (r *run) settled(f Found) {
	p := r.plan.Peer
	p.Address, p.Name = r.at, f.Settings.Name
	if f.Serial != "" {
		p.Serial = f.Serial
	}
	if f.Stream != nil {
		p.Stream = *f.Stream
	}
	r.Board.Post(r.plan.ID, Settled, News{Found: f, At: p})
}

// join tells a device of those that it works with, once they are where they are to be. What
// fails with one of them does not hold up the others.
func (r *run) join(ctx context.Context) error {
	if err := r.steadily(ctx, func() error { return r.part(ctx) }); err != nil {
		return err
	}
	if r.plan.Channels == nil && len(r.plan.Links) == 0 {
		return nil
	}
	links, err := r.wanted(ctx)
	if err != nil {
		return err
	}
	links, waits, err := r.peers(ctx, links)
	if err != nil {
		return err
	}
	var ties []Tie
	var refused []string
	err = r.steadily(ctx, func() error {
		ties, refused, err = r.tie(ctx, links)
		return err
	})
	if err != nil {
		return err
	}
	r.Board.Post(r.plan.ID, Joined, News{Found: r.found})
	if ties, err = r.fare(ctx, links, ties); err != nil {
		return err
	}
	for i := range ties {
		if changed := ties[i].Changed(); changed != "" { // it stands from now on, and somebody should know
			r.note(ties[i].Link.Name() + " " + changed + ": put that right at the recorder's own page if it is wrong")
			ties[i].Link.Keeps = ties[i].Keeps
		}
	}
	ties = append(ties, r.others...)
	r.result.Left.Ties = ties
	if err := r.Journal.Left(ctx, r.plan, r.result.Left); err != nil {
		return err
	}
	return r.unjoined(ties, slices.Concat(waits, refused, r.strange, r.noRoom))
}

// unjoined makes the trouble of links that do not do what they are for, or nil.
func (r *run) unjoined(ties []Tie, words []string) error {
	typed := false
	for i := range ties {
		switch t := &ties[i]; {
		case t.State == ToType:
			typed = true
		case !t.State.Good() && !slices.ContainsFunc(words, func(w string) bool { return strings.HasPrefix(w, t.Link.Name()+" ") }):
			words = append(words, t.Link.Name()+" is "+t.Text())
		}
	}
	if typed {
		r.note("cannot be set up over the network: enter its channels by hand")
	}
	if len(words) == 0 {
		return nil
	}
	next := advice.Say("fix the devices listed above, then run %s again", advice.Commission)
	if len(r.noRoom) > 0 {
		next = advice.Say("add a recorder, or name in the job sheet which cameras are recorded, and where; then run %s again", advice.Commission)
	}
	if len(r.strange) > 0 {
		next = advice.Say("ask the client what that is. If it is to go, run %s, which asks first; if it is to stay, give the cameras other channels in the job sheet", advice.ReplaceChannels.On(r.plan.Tag))
	}
	return trouble(nil, next, "is set up, but "+strings.Join(words, "; "))
}

// wanted gives the links that a device is to have, with the number of each channel.
func (r *run) wanted(ctx context.Context) ([]Link, error) {
	k := r.plan.Channels
	if k == nil {
		return r.plan.Links, nil
	}
	r.rest()
	var bays []Bay
	for _, other := range k.Recorders {
		b := Bay{ID: other.ID, Recording: r.found.Recording}
		if other.ID != r.plan.ID {
			news, err := r.await(ctx, other, Settled)
			if err != nil {
				return nil, err
			}
			if news.Err != nil {
				continue // it takes no cameras now
			}
			b.Recording = news.Found.Recording
		} else {
			b.Fixed = k.Fixed
		}
		bays = append(bays, b)
	}
	given, left := Assign(bays, k.Auto)
	own := Bay{ID: r.plan.ID, Recording: r.found.Recording, Fixed: k.Fixed}
	if len(k.Recorders) == 0 { // nothing is left to be assigned
		given, left = Assign([]Bay{own}, nil)
	}
	r.noRoom = nil
	if over, fit := overfull(own, given[r.plan.ID]); over != "" { // the others are joined all the same
		r.noRoom, given[r.plan.ID] = append(r.noRoom, over), fit
	}
	if strange := k.Strange(r.found.Recording, given[r.plan.ID]); len(strange) > 0 {
		r.strange, r.others = nil, nil
		for _, l := range strange {
			at := slices.IndexFunc(r.found.Recording.Channels, func(c Channel) bool { return c.Number == l.Number })
			r.others = append(r.others, Tie{Link: l, State: Others, Why: "plays " + r.found.Recording.Channels[at].Plays})
			r.strange = append(r.strange, fmt.Sprintf("%s stays as it is: it plays %s, which is not in the job", l.Name(), r.found.Recording.Channels[at].Plays))
		}
		given[r.plan.ID] = slices.DeleteFunc(given[r.plan.ID], func(l Link) bool {
			return slices.ContainsFunc(strange, func(s Link) bool { return s.Number == l.Number })
		})
	}
	last := len(bays) > 0 && bays[len(bays)-1].ID == r.plan.ID
	if len(left) > 0 && last {
		var tags []string
		for _, l := range left {
			tags = append(tags, l.Peer.Tag)
		}
		r.noRoom = append(r.noRoom, fmt.Sprintf("it is full%s: no room for %s", own.size(), strings.Join(tags, " ")))
	}
	k.as(given[r.plan.ID])
	return slices.Concat(given[r.plan.ID], r.plan.Links), nil
}

// peers waits for the others to be where they are to be, and learns where that is. waits
// names those that are not.
func (r *run) peers(ctx context.Context, links []Link) (ready []Link, waits []string, err error) {
	r.close() // others may speak while this one waits
	for _, l := range links {
		if l.Peer.ID == 0 {
			ready = append(ready, l)
			continue
		}
		news, err := r.await(ctx, l.Peer, Settled)
		if err != nil {
			return nil, nil, err
		}
		why := ""
		switch {
		case news.Err == nil:
			l.Peer = news.At
		case !l.Peer.Known:
			why = fmt.Sprintf("%s waits for %s, which needs you", l.Name(), l.Peer.Tag)
		}
		l.Peer.Stream = l.Peer.Stream.For(r.found.Recording.Encodings)
		if l.Step == StepChannel && l.Peer.Stream.Path == "" && why == "" {
			why = fmt.Sprintf("%s waits for %s, which shows no stream", l.Name(), l.Peer.Tag)
			if news.Found.NoStream != "" {
				why += " (" + news.Found.NoStream + ")"
			}
		}
		if why != "" {
			waits = append(waits, why)
			continue
		}
		ready = append(ready, l)
	}
	return ready, waits, nil
}

func (r *run) await(ctx context.Context, p Peer, s Stage) (News, error) {
	r.tell(StepAwait, "waiting for "+p.Tag)
	defer r.clock(StepAwait)()
	n, absent, err := r.Board.Await(ctx, p.ID, s)
	if absent {
		n.Err = errors.New("it has no part in this")
	}
	return n, err
}

// tie sets the links that are not as they are to be.
func (r *run) tie(ctx context.Context, links []Link) (ties []Tie, refused []string, err error) {
	if err := r.back(ctx); err != nil {
		return nil, nil, err
	}
	t := r.talk()
	defer t.Close()
	if ties, err = t.Ties(ctx, links); err != nil {
		return nil, nil, err
	}
	refused, err = r.mend(ctx, t, ties)
	return ties, refused, err
}

// mend sets the links that are not as they are to be, or that have another password than
// the keyring: each once in a run, since what does not help once does not help.
func (r *run) mend(ctx context.Context, t *Talk, ties []Tie) (refused []string, err error) {
	for i := range ties {
		name := ties[i].Link.Name()
		if ties[i].Set && ties[i].State != WrongPassword && !ties[i].Link.Renew || r.mended[name] {
			continue
		}
		switch err := r.setLink(ctx, t, ties[i]); {
		case err == nil:
			if r.mended[name] = true; ties[i].State == WrongPassword {
				r.result.Hammered = append(r.result.Hammered, ties[i].Link.Peer.ID)
				r.note(fmt.Sprintf("tried a password on %s that is not the keyring's, on %s. It gets the right one now. If %[1]s has locked itself for that, wait until it opens, then commission again", ties[i].Link.Peer.Tag, name))
			}
			ties[i].Set, ties[i].State, ties[i].Why = true, Waiting, ""
		case errors.Is(err, ErrReplyLost) || ctx.Err() != nil || !denied(err):
			return nil, err
		default:
			r.mended[name] = true
			refused = append(refused, name+" is refused: "+err.Error())
		}
	}
	return refused, nil
}

func (r *run) setLink(ctx context.Context, t *Talk, as Tie) error {
	l := as.Link
	if !l.Secret.IsZero() {
		if err := r.private(); err != nil {
			return err
		}
	}
	w := Write{Step: l.Step, Intent: l.Intent() + as.called(), InClear: !l.Secret.IsZero() && !t.Main.Encrypted()}
	return r.do(ctx, w, func() error { return t.Set(ctx, l) })
}
