package lan

import (
	"net/netip"
	"time"

	"janustat/core/device"
)

// Offer is what a DHCP server offered when asked; no lease was taken.
type Offer struct {
	ServerMAC device.MAC   `json:"server_mac"`
	Server    netip.Addr   `json:"server"`
	Subnet    netip.Prefix `json:"subnet"`
	Gateway   netip.Addr   `json:"gateway,omitzero"`
	Offered   netip.Addr   `json:"offered"`
	DNS       []netip.Addr `json:"dns,omitempty"`
	NTP       []netip.Addr `json:"ntp,omitempty"`
	LeaseS    int64        `json:"lease_s,omitempty"` // seconds
	At        time.Time    `json:"at"`
}

// Lease is one address given by `janustat lease`.
type Lease struct {
	MAC     device.MAC `json:"mac"`
	Address netip.Addr `json:"address"`
	At      time.Time  `json:"at"`
	Until   time.Time  `json:"until"`
}

// Unasked is a subnet in which addresses were not asked for.
type Unasked struct {
	Subnet    netip.Prefix `json:"subnet"`
	Addresses int          `json:"addresses"`
}
