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
	Key      []byte        `json:"key,omitempty"`      // of that password (PasswordKey); from version 2 on
	Time     *time.Time    `json:"time,omitempty"`     // clock, UTC
	Name     string        `json:"name,omitempty"`
	Address  *netip.Prefix `json:"address,omitempty"` // static, DHCP off
	DHCP     bool          `json:"dhcp,omitempty"`    // address: back to a lease; from version 2 on
	Gateway  *netip.Addr   `json:"gateway,omitempty"`
	Server   *Server       `json:"server,omitempty"`
	Pair     *Pair         `json:"pair,omitempty"`
	Serial   string        `json:"serial,omitempty"` // unpair
	From     int           `json:"from,omitempty"`   // pairs
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
	DoServer   = "server"  // server; from version 2 on none takes it away
	DoPair     = "pair"    // pair
	DoPairs    = "pairs"   // from: what it knows of others, as much as goes into one message
	DoUnpair   = "unpair"  // serial
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
	Code  string `json:"code,omitempty"`  // of the error, for programs; from version 2 on
	Now   bool   `json:"now,omitempty"`   // false with an error: not at present; power it off and on
	// Restart tells that it wants one before it uses an address.
	Restart bool   `json:"restart,omitempty"`
	Means   string `json:"means,omitempty"` // wink: light or sound
	State   *State `json:"state,omitempty"` // read
	Pairs   []Pair `json:"pairs,omitempty"` // pairs, those from the one asked for
	Next    int    `json:"next,omitempty"`  // pairs: ask again from this one; 0 with the last
}

// Codes of errors.
const (
	CodeWeak  = "weak"  // the password has not what the rules want
	CodeShort = "short" // the password
	CodeLong  = "long"  // the password, or a text
	CodeValue = "value" // a field is missing, or is nothing that it takes
	CodeCall  = "call"  // it does not take this call
	CodeHere  = "here"  // not in this conversation
	CodeFull  = "full"  // it knows as many others as it can
	CodeNow   = "now"   // not at present
)

// State is what a device tells once it is entered.
type State struct {
	User    string       `json:"user,omitempty"`
	Name    string       `json:"name"`
	Time    time.Time    `json:"time"`
	Address netip.Prefix `json:"address,omitzero"`
	Gateway netip.Addr   `json:"gateway,omitzero"`
	DHCP    bool         `json:"dhcp"`
	Server  *Server      `json:"server,omitempty"`
	Pairs   []Pair       `json:"pairs,omitempty"` // in version 1; then DoPairs tells them

	// From version 2 on, what the record takes down: told under encryption.
	Make     string `json:"make,omitempty"`
	Model    string `json:"model,omitempty"`
	Serial   string `json:"serial,omitempty"`
	Firmware string `json:"firmware,omitempty"`
}
