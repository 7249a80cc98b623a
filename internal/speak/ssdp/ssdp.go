// Package ssdp codes the Simple Service Discovery Protocol (UPnP Device
// Architecture 1.1, section 1): searches out; answers and notices in. It touches
// bytes only.
package ssdp

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"strings"
)

// Port and groups of SSDP.
const Port = 1900

// The groups of SSDP; the IPv6 one is link-local.
var (
	Group4 = netip.AddrFrom4([4]byte{239, 255, 255, 250})
	Group6 = netip.MustParseAddr("ff02::c")
)

// maxMessage bounds a message, in bytes: real ones fit into one frame.
const maxMessage = 4096

// ErrNotSSDP is returned for what is no answer or notice.
var ErrNotSSDP = errors.New("not an SSDP answer or notice")

// Message is what something says of itself.
type Message struct {
	Gone   bool   // it says goodbye
	Type   string // of device or service, such as upnp:rootdevice
	Name   string // its unique service name, which begins with uuid:
	Server string // operating system and product, as it tells them
	Where  string // URL of its description
}

// Search asks everything to answer within wait seconds, 1 to 5.
func Search(group netip.Addr, wait int) []byte {
	host := netip.AddrPortFrom(group, Port).String()
	return fmt.Appendf(nil, "M-SEARCH * HTTP/1.1\r\nHOST: %s\r\nMAN: \"ssdp:discover\"\r\nMX: %d\r\nST: ssdp:all\r\n\r\n", host, wait)
}

// Parse reads an answer to a search, or a notice.
func Parse(payload []byte) (Message, error) {
	if len(payload) > maxMessage {
		return Message{}, ErrNotSSDP
	}
	// Many leave the empty line out that ends the headers.
	in := bufio.NewReader(bytes.NewReader(append(bytes.Clone(payload), "\r\n\r\n"...)))
	if bytes.HasPrefix(payload, []byte("NOTIFY ")) {
		r, err := http.ReadRequest(in)
		if err != nil {
			return Message{}, ErrNotSSDP
		}
		m := read(r.Header, "NT")
		m.Gone = strings.EqualFold(r.Header.Get("NTS"), "ssdp:byebye")
		return m, m.check()
	}
	r, err := http.ReadResponse(in, nil)
	if err != nil || r.StatusCode != http.StatusOK {
		return Message{}, ErrNotSSDP
	}
	m := read(r.Header, "ST")
	return m, m.check()
}

func read(h http.Header, kind string) Message {
	return Message{Type: h.Get(kind), Name: h.Get("USN"), Server: h.Get("SERVER"), Where: h.Get("LOCATION")}
}

func (m Message) check() error {
	if m.Type == "" || m.Name == "" {
		return ErrNotSSDP
	}
	return nil
}

// Kind gives the short name of a standard device type, such as MediaServer, or
// "" for what names no device.
func (m Message) Kind() string {
	parts := strings.Split(m.Type, ":")
	if len(parts) >= 4 && strings.EqualFold(parts[0], "urn") && strings.EqualFold(parts[2], "device") {
		return parts[3]
	}
	return ""
}
