package hail

import (
	"net/netip"
	"time"
)

// Request is a call, as JSON in an encrypted body. Do says which; the other fields are
// those of its own.
type Request struct {
	Do       string        `json:"do"`
	User     string        `json:"user,omitempty"`     // claim
	Password string        `json:"password,omitempty"` // claim, password
	Time     *time.Time    `json:"time,omitempty"`     // clock, UTC
	Name     string        `json:"name,omitempty"`
	Address  *netip.Prefix `json:"address,omitempty"` // static, DHCP off
	Gateway  *netip.Addr   `json:"gateway,omitempty"`
	Server   *Server       `json:"server,omitempty"`
	Pair     *Pair         `json:"pair,omitempty"`
}

// The calls. Status and wink change nothing that lasts.
const (
	DoClaim    = "claim"    // user, password: only of a device without one
	DoPassword = "password" // password
	DoRead     = "read"
	DoClock    = "clock"   // time
	DoName     = "name"    // name
	DoAddress  = "address" // address
	DoGateway  = "gateway" // gateway
	DoServer   = "server"  // server
	DoPair     = "pair"    // pair
	DoWink     = "wink"
	DoRestart  = "restart"
	DoReset    = "reset"
	DoBye      = "bye" // the conversation is over; it is not answered
)

// Server is what a panel or a call-home unit reports to.
type Server struct {
	Address   netip.Addr `json:"address"`
	Port      uint16     `json:"port"`
	Auto      bool       `json:"auto"` // it connects by itself
	Connected bool       `json:"connected,omitempty"`
	Why       string     `json:"why,omitempty"` // it is not connected
}

// Pair is the other station of an intercom, as a station knows it.
type Pair struct {
	Serial     string     `json:"serial"`
	Address    netip.Addr `json:"address"`
	Door       bool       `json:"door"` // the other is the door station
	Floor      int        `json:"floor"`
	Flat       string     `json:"flat"`                 // SIP user of the indoor station
	Secret     string     `json:"secret,omitempty"`     // never in an answer
	Mark       string     `json:"mark,omitempty"`       // of the secret, in an answer
	Registered bool       `json:"registered,omitempty"` // the registration holds (RFC 3261, 10)
	Why        string     `json:"why,omitempty"`        // it does not
}

// Answer to a call.
type Response struct {
	OK    bool   `json:"ok"`
	Error string `json:"error,omitempty"` // in words
	Now   bool   `json:"now,omitempty"`   // false with an error: not at present; power it off and on
	// Restart tells that it wants one before it uses an address.
	Restart bool   `json:"restart,omitempty"`
	Means   string `json:"means,omitempty"` // wink: light or sound
	State   *State `json:"state,omitempty"` // read
}

// State is what a device tells once it is entered.
type State struct {
	User    string       `json:"user,omitempty"`
	Name    string       `json:"name"`
	Time    time.Time    `json:"time"`
	Address netip.Prefix `json:"address,omitzero"`
	Gateway netip.Addr   `json:"gateway,omitzero"`
	DHCP    bool         `json:"dhcp"`
	Server  *Server      `json:"server,omitempty"`
	Pairs   []Pair       `json:"pairs,omitempty"`
}
