// Package lan judges a laptop's place on a LAN: from what its adapters are and
// what was heard on the wire, it tells what will stop the job, in order of
// likelihood, each with its remedy. It has no I/O.
package lan

import (
	"net/netip"

	"janustat/core/advice"
	"janustat/core/device"
)

// Adapter is one network adapter of the laptop.
type Adapter struct {
	Name      string         `json:"name"`
	MAC       device.MAC     `json:"mac"`
	Up        bool           `json:"up"`              // switched on in the system
	Link      bool           `json:"link"`            // a cable with something at its other end
	Speed     int            `json:"speed,omitempty"` // Mbit/s, 0 where not known
	Wireless  bool           `json:"wireless,omitempty"`
	Virtual   bool           `json:"virtual,omitempty"` // not a piece of hardware
	Addresses []netip.Prefix `json:"addresses"`
	Gateway   netip.Addr     `json:"gateway,omitzero"`
}

// Server is a DHCP server that answered.
type Server struct {
	Address netip.Addr   `json:"address"`
	MAC     device.MAC   `json:"mac"`
	Subnet  netip.Prefix `json:"subnet"`
	Gateway netip.Addr   `json:"gateway,omitzero"`
}

// Heard is a subnet that hosts were heard in.
type Heard struct {
	Subnet netip.Prefix `json:"subnet"`
	Hosts  int          `json:"hosts"`
}

// Duplicate is an address of the laptop's own that something else claims.
type Duplicate struct {
	Address netip.Addr `json:"address"`
	Holder  device.MAC `json:"holder"`
}

// Silent is something that should answer and does not.
type Silent struct {
	What    string     `json:"what"` // the gateway, or a recorder by its tag
	Address netip.Addr `json:"address"`
}

// Rule is a rule of the laptop's firewall that drops what the job needs.
type Rule struct {
	Where   string `json:"where"`   // table and chain
	Text    string `json:"text"`    // as the firewall's own program shows it
	Reaches bool   `json:"reaches"` // it stands where even raw frames pass
}

// Report is what is known of the laptop and the wire.
type Report struct {
	Adapters   []Adapter      `json:"adapters"`
	Chosen     string         `json:"chosen"`         // the adapter looked at; empty if none could be
	Why        string         `json:"why,omitempty"`  // why none could be
	NoRights   string         `json:"hint,omitempty"` // the command that grants raw frames, where they are refused
	Simulated  bool           `json:"simulated,omitempty"`
	Limits     []string       `json:"limits,omitempty"` // what cannot be done without raw frames, where they are done without
	Forwards   bool           `json:"forwards"`
	Firewall   []Rule         `json:"firewall"`
	Frames     int64          `json:"frames"` // received while listening
	Servers    []Server       `json:"dhcp_servers"`
	Subnets    []Heard        `json:"subnets"`
	Site       netip.Prefix   `json:"site,omitzero"` // the job's ground, if it is known
	SiteFrom   string         `json:"site_from,omitempty"`
	Duplicates []Duplicate    `json:"duplicates"`
	Graspers   []Grasp        `json:"graspers,omitempty"` // hosts that claim more addresses of the laptop's or the site's subnet than they can have
	Silent     []Silent       `json:"silent"`
	VLANs      map[uint16]int `json:"vlan_tagged_frames,omitempty"`
}

// Weight is how much a fault matters.
type Weight string

// The weights, heaviest first.
const (
	Stops   Weight = "stops"   // the job cannot be done like this
	Hampers Weight = "hampers" // it can, with trouble
	Note    Weight = "note"    // harmless, but easily taken for the cause
)

// Fault is one thing that stands in the way, or only looks like it.
type Fault struct {
	Code   string
	Weight Weight
	What   string
	Remedy advice.Advice
}
