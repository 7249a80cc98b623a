package commission

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"janustat/core/device"
	"janustat/core/secret"
	"janustat/core/text"
)

// Link is what a device is to know of another: the camera of a recorder's channel, the
// other station of an intercom pair, the server that a panel reports to.
type Link struct {
	Step   Step // StepChannel, StepPair or StepReport
	Peer   Peer
	Number int             // of the channel, from 1
	Floor  int             // of the indoor station of a pair
	Flat   string          // likewise; digits, by which it is rung
	User   string          // that the channel opens the camera by
	Secret secret.Password // of that user, or of the pair; on the keyring
	// Renew has a channel set though it looks right: its camera has a new password.
	Renew bool
	// Datagrams has its pictures come over UDP, since they did not over TCP.
	Datagrams bool
	// Keeps is how long the recorder kept the channel's pictures when it was joined; "" is not
	// known.
	Keeps string
	// Shown is how the recorder shows the channel when it is as it is to be, if otherwise than
	// it was told.
	Shown *device.Shown
}

// Peer is the other device of a link.
type Peer struct {
	ID       int64 // 0 is none of the job's devices
	Tag      string
	Name     string
	Serial   string
	MAC      device.MAC
	Address  netip.Addr
	Port     uint16 // of a server
	Door     bool   // a door station, which indoor stations register with
	Stream   device.Stream
	Endpoint string
	// Known tells that its facts are of an earlier run, which set it up.
	Known bool
	// Before are addresses that it had in this job's time.
	Before []netip.Addr
}

// State is how a link fares, by the device's own word or what is seen of it.
type State string

// The states.
const (
	Connected     State = "connected"      // of a channel, and of a server
	Registered    State = "registered"     // of a pair
	WrongPassword State = "wrong password" // of a channel or a pair
	Unreachable   State = "unreachable"
	NoStream      State = "no stream"      // the camera answers and shows no picture
	NotRecording  State = "not recording"  // the pictures come, and are not recorded
	Others        State = "in use"         // of a channel, by others, and left to them
	Waiting       State = "not connected"  // nothing more is known
	ToType        State = "to be typed in" // the device has no services for it
)

// Good reports whether a link does what it is for.
func (s State) Good() bool { return s == Connected || s == Registered }

// Tie is a link as a device has it.
type Tie struct {
	Link  Link
	Set   bool          // it has the link as it is to be
	Shows *device.Shown // of a channel: how the recorder shows it
	Keeps string        // of a channel: for how long, as device.Link has it
	// OnlyCalled tells that all that differs is what the recorder calls the channel's source.
	OnlyCalled bool
	State      State
	Why        string // in the device's words, where it is in no good state
}

// Changed tells what somebody has changed of a channel that is no matter of the job's, and that
// the site may be bound to; "" is nothing.
func (t *Tie) Changed() string {
	if t.Link.Keeps == "" || t.Keeps == "" || t.Keeps == t.Link.Keeps {
		return ""
	}
	return fmt.Sprintf("keeps its pictures for %s, and kept them for %s when it was connected", lasting(t.Keeps), lasting(t.Link.Keeps))
}

// called tells, behind the intent of a channel, what the recorder calls it until then, where that
// is another name than it will have.
func (t *Tie) called() string {
	if t.Link.Step != StepChannel || t.Shows == nil || t.Shows.Name == "" || t.OnlyCalled || t.Shows.Name == t.Link.Peer.Label() {
		return ""
	}
	return fmt.Sprintf(", called %q until now", text.Harmless(t.Shows.Name, text.Long, nil))
}

// lasting puts a duration of a recorder into words, where that is simple.
func lasting(d string) string {
	if d == "PT0S" {
		return "as long as there is room"
	}
	if days, ok := strings.CutPrefix(d, "P"); ok && strings.HasSuffix(days, "D") && len(days) < 6 {
		if n, err := strconv.Atoi(strings.TrimSuffix(days, "D")); err == nil {
			return text.Plural(n, "day")
		}
	}
	return d
}

// Text tells how a tie fares.
func (t *Tie) Text() string {
	if t.State.Good() && !t.Set {
		return string(t.State) + ", and " + cmp.Or(t.Why, "set differently")
	}
	if t.Why == "" {
		return string(t.State)
	}
	return string(t.State) + " (" + t.Why + ")"
}

// Name names a link in a sentence.
func (l *Link) Name() string {
	switch l.Step {
	case StepChannel:
		if l.Number == 0 {
			return "a channel for " + l.Peer.Tag
		}
		return fmt.Sprintf("channel %d (%s)", l.Number, l.Peer.Tag)
	case StepPair:
		return fmt.Sprintf("the pair with %s", l.Peer.Tag)
	}
	return "the server"
}

// Intent is how the journal tells a link that is to be set.
func (l *Link) Intent() string {
	switch l.Step {
	case StepChannel:
		if l.Number == 0 {
			return fmt.Sprintf("any free channel: %s at %s", l.Peer.label(), l.Peer.Address)
		}
		return fmt.Sprintf("channel %d: %s at %s", l.Number, l.Peer.label(), l.Peer.Address)
	case StepPair:
		return fmt.Sprintf("%s at %s, floor %d, flat %s", l.Peer.label(), l.Peer.Address, l.Floor, l.Flat)
	}
	return netip.AddrPortFrom(l.Peer.Address, l.Peer.Port).String()
}

// peerName is what the register calls the other device of a link: its tag, or the address
// of a server.
func (l *Link) peerName() string {
	if l.Peer.Tag != "" {
		return l.Peer.Tag
	}
	return netip.AddrPortFrom(l.Peer.Address, l.Peer.Port).String()
}

func (p *Peer) label() string { return strings.TrimSpace(p.Tag + " " + p.Name) }

// Label is what a channel or a station calls the device: its name, or else its tag.
func (p *Peer) Label() string { return cmp.Or(p.Name, p.Tag) }

// Recording is what a recorder tells of its channels.
type Recording struct {
	Offers   bool // it has the services to set them
	Room     int  // how many it can have; 0 is not known
	Free     int  // for how many more channels it can have a source; negative is not known
	Channels []Channel
	// Encodings are those that it records, as its standard calls them; none is not known.
	Encodings []string
}

// roomFact gives the room of a recorder in the form that a device keeps; nil is not known.
func (r *Recording) roomFact() *device.Room {
	if r.Room <= 0 {
		return nil
	}
	out := &device.Room{Channels: r.Room}
	for i := range r.Channels {
		if r.Channels[i].Used {
			out.Used++
		}
	}
	return out
}

// Channel is one channel of a recorder.
type Channel struct {
	Number int // from 1
	Name   string
	Source netip.Addr // of the camera; not valid where the channel is free
	Of     string     // what the channel says its source is: the camera's endpoint reference or MAC
	Used   bool       // something is on it, whether that is understood or not
	Plays  string     // what that is, in the recorder's words
	// Contested tells that several jobs fill it, and that what it plays is not what it is
	// called by.
	Contested bool
}

type (
	// ChannelKeeper has channels, which record cameras.
	ChannelKeeper interface {
		// Recording reads the channels; every one it can have is counted.
		Recording(ctx context.Context) (Recording, error)
		// Channels reads how channels are set and fare, in the order of links.
		Channels(ctx context.Context, links []Link) ([]Tie, error)
		// SetChannel creates a channel or corrects it; what is so already is not written.
		SetChannel(ctx context.Context, l Link) error
		// Park has a channel not connect to its camera until it is set again.
		Park(ctx context.Context, l Link) error
	}
	// PairKeeper is a door or indoor station, which knows others by their serial numbers.
	PairKeeper interface {
		Pairs(ctx context.Context, links []Link) ([]Tie, error)
		SetPair(ctx context.Context, l Link) error
	}
	// Parter has a station forgotten by its serial number; one that it does not know is no error.
	Parter interface {
		Parts() bool // it can, by its own word
		Unpair(ctx context.Context, serial string) error
	}
	// Acquainted is a station that tells whom it knows beside those of its links.
	Acquainted interface {
		// Others gives the serial numbers of stations that it knows and that are in no link.
		Others(ctx context.Context, links []Link) ([]string, error)
	}
	// Reporter reports to a server.
	Reporter interface {
		Reporting(ctx context.Context, links []Link) ([]Tie, error)
		SetReporting(ctx context.Context, l Link) error
	}
	// Streamer has a picture that others can watch.
	Streamer interface {
		// Stream gives its best stream, as it is opened by a user (RTSP DESCRIBE); fits is
		// false where that user's password is refused.
		Stream(ctx context.Context, user string, p secret.Password) (s device.Stream, fits bool, err error)
	}
	// Winker shows itself: it lights up, or makes a sound.
	Winker interface {
		// Wink says by what means it does so; an *UnableError is for one that has none.
		Wink(ctx context.Context) (means string, err error)
	}
)

// of gives the links that one step sets.
func of(links []Link, s Step) (out []Link) {
	for _, l := range links {
		if l.Step == s {
			out = append(out, l)
		}
	}
	return out
}

// joint is how the links of one step are read and set.
type joint struct {
	step Step
	read func(ctx context.Context, t *Talk, links []Link) ([]Tie, error)
	set  func(ctx context.Context, t *Talk, l Link) error
}

var joints = []joint{
	jointOf(StepChannel, "channels", ChannelKeeper.Channels, ChannelKeeper.SetChannel),
	jointOf(StepPair, "pairs", PairKeeper.Pairs, PairKeeper.SetPair),
	jointOf(StepReport, "server", Reporter.Reporting, Reporter.SetReporting),
}

// jointOf makes a joint of an ability, which may be in any of the device's tongues.
func jointOf[A any](step Step, what string, read func(A, context.Context, []Link) ([]Tie, error), set func(A, context.Context, Link) error) joint {
	return joint{
		step,
		func(ctx context.Context, t *Talk, links []Link) ([]Tie, error) {
			a, err := Ability[A](ctx, t, what)
			if err != nil {
				return nil, err
			}
			return read(a, ctx, links)
		},
		func(ctx context.Context, t *Talk, l Link) error {
			a, err := Ability[A](ctx, t, what)
			if err != nil {
				return err
			}
			return set(a, ctx, l)
		},
	}
}
