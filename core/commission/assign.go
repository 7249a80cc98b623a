package commission

import (
	"fmt"
	"slices"
	"strings"

	"janustat/core/device"
	"janustat/core/text"
)

// Channels is what a job sheet has of the channels of a recorder.
type Channels struct {
	// Fixed are the channels that the sheet names.
	Fixed []Link
	// Auto are the cameras that are to get a free channel on any of Recorders, in the order
	// of their tags; both are the same for each of these.
	Auto      []Link
	Recorders []Peer
	// Own are all cameras of the job: a channel that plays one of them is the job's to change.
	Own []Peer
	// Known are the channels that this job has set, by number; Peer names the camera.
	Known map[int]device.Link
	// Renew are the tags of cameras that have a new password for the recorder.
	Renew []string
	// Replace tells that a person has said that what others have on the channels that the
	// sheet names is to go.
	Replace bool
}

// as has links know how the recorder shows them, and which are to be renewed.
func (k *Channels) as(links []Link) {
	for i := range links {
		l := &links[i]
		if known, ok := k.Known[l.Number]; ok && known.Peer == l.Peer.Tag {
			l.Shown, l.Keeps = known.Shown, known.Keeps
		}
		l.Renew = slices.Contains(k.Renew, l.Peer.Tag)
	}
}

// Recognised gives what a recorder tells with the channels that this job has set for a camera
// as that camera's, whatever unit that is by now: one that was replaced has the address of the
// one before, and the recorder calls it as that.
func (k *Channels) Recognised(r Recording) Recording {
	r.Channels = slices.Clone(r.Channels)
	for i := range r.Channels {
		c := &r.Channels[i]
		known, ok := k.Known[c.Number]
		for _, p := range k.Own {
			if ok && p.Tag == known.Peer && c.Source.IsValid() && c.Source == p.Address && !c.Contested {
				c.Of = p.SourceID()
			}
		}
	}
	return r
}

// Strange gives the channels named for a camera on which something else is that is none of the
// job's: what is not understood is not empty.
func (k *Channels) Strange(r Recording, links []Link) (out []Link) {
	for _, l := range links {
		at := slices.IndexFunc(r.Channels, func(c Channel) bool { return c.Number == l.Number })
		if at < 0 || !r.Channels[at].Used {
			continue
		}
		own := slices.ContainsFunc(append(slices.Clone(k.Own), l.Peer), func(p Peer) bool { return r.Channels[at].shows(p) })
		if !own && !k.Replace {
			out = append(out, l)
		}
	}
	return out
}

// Bay is a recorder with its channels, as cameras are given to it.
type Bay struct {
	ID        int64
	Recording Recording
	Fixed     []Link
}

// Assign gives each camera a channel: those named by the job sheet first, then each on the
// channel it is on already, then the others on free channels, one recorder after the other.
// left are those that none has room for. It is the same whoever works it out.
func Assign(bays []Bay, auto []Link) (out map[int64][]Link, left []Link) {
	out = map[int64][]Link{}
	given := map[int64]bool{} // cameras
	for _, b := range bays {
		for _, l := range b.Fixed {
			given[l.Peer.ID] = true
		}
		out[b.ID] = slices.Clone(b.Fixed)
	}
	taken := func(b Bay, n int) bool {
		return slices.ContainsFunc(out[b.ID], func(l Link) bool { return l.Number == n })
	}
	for _, l := range auto {
		for _, b := range bays {
			at := slices.IndexFunc(b.Recording.Channels, func(c Channel) bool {
				return c.shows(l.Peer) || c.Contested && strings.EqualFold(c.Of, l.Peer.SourceID())
			})
			if given[l.Peer.ID] || at < 0 || taken(b, b.Recording.Channels[at].Number) {
				continue
			}
			l.Number, given[l.Peer.ID] = b.Recording.Channels[at].Number, true
			out[b.ID] = append(out[b.ID], l)
		}
	}
	free := map[int64]int{}
	for _, b := range bays {
		if free[b.ID] = b.Recording.Free; !b.Recording.Offers { // nothing is read of it
			free[b.ID] = -1
		}
		for _, l := range b.Fixed {
			if !b.Recording.has(l.Number) && free[b.ID] > 0 {
				free[b.ID]--
			}
		}
	}
	for _, l := range auto {
		for _, b := range bays {
			if given[l.Peer.ID] {
				break
			}
			for n := 1; n <= b.room() && free[b.ID] != 0; n++ {
				if used := b.Recording.has(n); !taken(b, n) && !used {
					free[b.ID]--
					l.Number, given[l.Peer.ID] = n, true
					out[b.ID] = append(out[b.ID], l)
					break
				}
			}
		}
		if !given[l.Peer.ID] {
			left = append(left, l)
		}
	}
	for id := range out {
		slices.SortStableFunc(out[id], func(a, b Link) int { return a.Number - b.Number })
	}
	return out, left
}

// manyChannels is what a recorder is taken to have that does not say.
const manyChannels = 64

func (b *Bay) room() int {
	if b.Recording.Room > 0 {
		return b.Recording.Room
	}
	return manyChannels
}

// size says how many channels a recorder can have, as far as it says.
func (b *Bay) size() string {
	switch {
	case b.Recording.Offers && b.Recording.Free >= 0 && b.Recording.Room > 0:
		return fmt.Sprintf(", with %d channels and sources for %d more", b.Recording.Room, b.Recording.Free)
	case b.Recording.Room > 0:
		return fmt.Sprintf(", with %d channels", b.Recording.Room)
	}
	return ""
}

// shows reports whether a channel has a camera as its source.
func (c *Channel) shows(p Peer) bool {
	if low := strings.ToLower(c.Of); !c.Contested && (strings.HasPrefix(low, "urn:") || strings.HasPrefix(low, "uuid:")) {
		return strings.EqualFold(c.Of, p.SourceID())
	}
	// Some call their sources by names of their own: the address says it then.
	return c.Source.IsValid() && (c.Source == p.Address || slices.Contains(p.Before, c.Source))
}

// has reports whether a channel has a source.
func (r *Recording) has(n int) bool {
	return slices.ContainsFunc(r.Channels, func(c Channel) bool { return c.Number == n && (c.Used || c.Source.IsValid() || c.Of != "") })
}

// SourceID gives what a channel calls a camera by: its endpoint reference, which stays when
// its address changes, or a URN of its MAC where it has none.
func (p *Peer) SourceID() string {
	if p.Endpoint != "" {
		return p.Endpoint
	}
	return "urn:dev:mac:" + strings.ReplaceAll(p.MAC.String(), ":", "") // RFC 9039, 4.1
}

// overfull says what a recorder has no room for, or "", and gives the links that fit.
func overfull(b Bay, links []Link) (words string, fit []Link) {
	var over []string
	for _, l := range links {
		if b.Recording.Room > 0 && l.Number > b.Recording.Room {
			over = append(over, l.Name())
		} else {
			fit = append(fit, l)
		}
	}
	if len(over) == 0 {
		return "", links
	}
	return fmt.Sprintf("it has %s, so no %s", text.Plural(b.Recording.Room, "channel"), strings.Join(over, ", ")), fit
}
