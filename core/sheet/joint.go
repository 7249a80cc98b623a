package sheet

import (
	"fmt"
	"net/netip"
	"strings"
)

// ChannelPlan is which camera goes to which channel of which recorder.
type ChannelPlan struct {
	Auto      bool // every camera, on any recorder that has a free channel
	None      bool // none, by a person's word
	Recorders []RecorderChannels
}

// RecorderChannels are the channels of one recorder.
type RecorderChannels struct {
	Recorder Ref
	Auto     bool // cameras that are named nowhere get its free channels
	Cameras  []ChannelCamera
}

// ChannelCamera is the camera of one channel.
type ChannelCamera struct {
	Number int
	Camera Ref
}

// Given reports whether the sheet says anything of channels.
func (c *ChannelPlan) Given() bool { return c.Auto || len(c.Recorders) > 0 }

// IntercomPlan is which door station rings which indoor stations.
type IntercomPlan struct {
	Pairs []Pair
	At    Ref  // of the whole
	None  bool // by a person's word
}

// Pair is a door station and an indoor station that it rings.
type Pair struct {
	Door, Station Ref
	Floor         int
	Flat          string // digits
}

// ReportPlan is the server that panels and call-home units report to.
type ReportPlan struct {
	Server  netip.Addr
	Port    uint16
	Devices []Ref // kinds, tags, MACs or serials; every panel if left out
	None    bool  // by a person's word
}

// checkJoining refuses a user that has the name of the recorders' own.
func (s *Sheet) checkJoining() error {
	if s.Channels.Given() {
		for _, u := range s.Users {
			if strings.EqualFold(u.Name, RecorderUser) {
				return fmt.Errorf("%w: users: the user %s is made for the recorder automatically: give yours another name", ErrSheet, RecorderUser)
			}
		}
	}
	return nil
}

// RecorderUser is the user that recorders open cameras by.
const RecorderUser = "recorder"
