package handover

import (
	"cmp"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/open"
	"janustat/core/setting"
)

// OpenItem is one thing that is open.
type OpenItem struct {
	Device   string    `json:"device"` // "" is the whole job
	What     open.What `json:"what"`
	Text     string    `json:"text"`
	Urgency  string    `json:"urgency"` // now, work or note
	Check    string    `json:"check,omitempty"`
	Expected string    `json:"expected,omitempty"`
	Found    string    `json:"found,omitempty"`
	Since    time.Time `json:"since,omitzero"`
}

// Sentence tells it in one.
func (o OpenItem) Sentence() string { return strings.TrimSpace(o.Device + " " + o.Text) }

// Entry is one device of the job as left.
type Entry struct {
	Tag      string           `json:"tag"`
	Kind     device.Kind      `json:"kind"`
	Name     string           `json:"name"`
	Place    string           `json:"place"`
	Make     string           `json:"make"`
	Model    string           `json:"model"`
	Serial   string           `json:"serial"`
	MAC      device.MAC       `json:"mac"`
	Firmware string           `json:"firmware"`
	Agreed   string           `json:"firmware_agreed,omitempty"` // on another version
	Address  string           `json:"address"`
	Mask     string           `json:"mask"`
	Gateway  string           `json:"gateway"`
	Port     string           `json:"switch_port"`
	Remark   string           `json:"remark"`
	Access   device.Access    `json:"access"`
	AsFound  *device.Settings `json:"as_found"`
	AsLeft   *device.Settings `json:"as_left"`
	Proved   *time.Time       `json:"proved_at"`
	InClear  bool             `json:"password_set_without_encryption"`
	// Custody says who holds the password.
	Custody string `json:"password_held_by"`
	// Joined says whom it works with, and how that was when it was read last.
	Joined []string `json:"joined,omitempty"`
	Stream string   `json:"stream,omitempty"` // codec, size and where
	// Own are fields of the installer's own.
	Own map[string]string `json:"own,omitempty"`
	// Backup is its own backup that was kept last: the file is in the job's folder, not in the pack.
	Backup *device.Backup `json:"backup,omitempty"`
	// OfSite tells that the site's own authority made its certificate, and Ends until when it is valid.
	OfSite bool      `json:"certificate_of_site,omitempty"`
	Ends   time.Time `json:"certificate_ends,omitzero"`
	// Transport is how it is spoken with; "" is not known.
	Transport string `json:"transport,omitempty"`
	// Weak says what is weak about its encryption, in the standards' words.
	Weak []string `json:"weak_encryption,omitempty"`
	// How it gets its address, and what it asks.
	Addressing string `json:"addressing"` // static; leased, by a reservation; "" is not set up
	DNS        string `json:"dns"`
	NTP        string `json:"ntp"`
	Zone       string `json:"timezone"` // as POSIX writes it
	// Settings are those beside, by name.
	Settings setting.Values `json:"settings,omitempty"`
	// Accounts are the users that the job made or uses, with their levels.
	Accounts []string `json:"accounts,omitempty"`
	// Certificate is the SHA-256 of the one it shows over HTTPS, hexadecimal.
	Certificate string   `json:"certificate,omitempty"`
	Ports       []uint16 `json:"ports,omitempty"`    // TCP, that were seen open
	Services    []string `json:"services,omitempty"` // that it announces
	// Checks are those of its last proof, and when that was.
	Checks  []Checked  `json:"checks,omitempty"`
	Checked *time.Time `json:"checked_at,omitempty"`
	// LeftOut tells that it was set up by the job and left out of it later.
	LeftOut bool `json:"left_out,omitempty"`

	planned bool // as an earlier record has it, and not opened since
}

// Checked is one check of a proof.
type Checked struct {
	Check    string `json:"check"`
	Result   string `json:"result"` // passed, failed, refused or untested
	Expected string `json:"expected,omitempty"`
	Found    string `json:"found,omitempty"`
}

// Proof is the last proof of a device.
type Proof struct {
	At     time.Time
	Checks []Checked
}

// Channel is one channel of a recorder.
type Channel struct {
	Recorder string `json:"recorder"`
	Number   int    `json:"channel"`
	Camera   string `json:"camera"`
	Name     string `json:"name"`
	Address  string `json:"address"`
	State    string `json:"state"`
}

// Span is a range of addresses and what it is for.
type Span struct {
	From netip.Addr `json:"from"`
	To   netip.Addr `json:"to"`
	Why  string     `json:"why"`
	Pool bool       `json:"pool,omitempty"` // of a DHCP server
}

// Material is what a record is made of, beside the devices, which come in the order given.
type Material struct {
	Site     string
	Ground   ground.Ground
	InClear  map[int64]bool              // by ID: it has a password that was set without encryption
	Agreed   map[int64]string            // by ID: the version of its firmware that is agreed on, where it has another
	Notes    map[int64]map[string]string // by ID, and field
	Spans    []Span
	Open     []open.Item        // of the whole job
	Accounts map[int64][]string // by ID: users and their levels
	Proofs   map[int64]Proof    // by ID: the last one
	// Authority is the site's own; nil where it has none.
	Authority *Authority
	Plan      Plan
	Part      int // devices of the whole job, where the record is of a part; else 0
}

func entry(d *device.Device, f Material, joined []string, leftOut bool) Entry {
	e := Entry{
		Tag: d.Tag, Kind: d.Kind, Name: d.Name, Make: d.Make, Model: d.Model, Serial: d.Serial, MAC: d.MAC,
		Firmware: d.Firmware, Agreed: f.Agreed[d.ID], Access: d.Access, AsFound: d.AsFound, AsLeft: d.AsLeft, InClear: f.InClear[d.ID], LeftOut: leftOut, Joined: joined,
	}
	for field, value := range f.Notes[d.ID] {
		switch field {
		case "place":
			e.Place = value
		case "port":
			e.Port = value
		case "remark":
			e.Remark = value
		default:
			if e.Own == nil {
				e.Own = map[string]string{}
			}
			e.Own[field] = value
		}
	}
	switch {
	case d.Access == device.Keyed || d.Access == device.Factory:
		e.Custody = "the installer, on the job's keyring"
	case d.Access == device.Sealed:
		e.Custody = "nobody known"
	}
	if d.TLS != nil {
		e.Weak, e.Certificate, e.OfSite, e.Ends = d.TLS.Weak, d.TLS.Fingerprint, d.TLS.OfSite, d.TLS.Ends
	}
	e.Transport, e.Backup = transport(d), d.Backup
	e.planned = d.Commissioned() && d.OpenedAt.IsZero()
	e.Accounts, e.Ports, e.Services = f.Accounts[d.ID], d.Ports, d.Offers
	if p, ok := f.Proofs[d.ID]; ok {
		at := p.At.UTC().Truncate(time.Second)
		e.Checks, e.Checked = p.Checks, &at
	}
	if s := d.AsLeft; s != nil {
		e.Address, e.Mask = s.Address.String(), ground.Mask(s.Prefix).String()
		if s.Gateway.IsValid() {
			e.Gateway = s.Gateway.String()
		}
		e.Addressing = "static"
		if s.DHCP {
			e.Addressing = "leased, by a reservation"
		}
		e.DNS, e.NTP, e.Zone, e.Settings = ground.List(s.DNS), ground.List(s.NTP), s.Zone, s.Values
		if k := d.Stream; k != nil {
			e.Stream = strings.TrimSpace(k.Codec + " " + k.Size())
		}
	}
	if !d.Proved.IsZero() {
		at := d.Proved.UTC().Truncate(time.Second)
		e.Proved = &at
	}
	return e
}

// join tells whom each device works with, by tag, and lists the channels.
func (r *Record) join(devices []device.Device) map[string][]string {
	joined, byTag := map[string][]string{}, map[string]*device.Device{}
	for i := range devices {
		if devices[i].InJob == device.Taken {
			byTag[devices[i].Tag] = &devices[i]
		}
	}
	for i := range devices {
		d := &devices[i]
		if d.InJob != device.Taken {
			continue
		}
		for _, k := range d.Links {
			switch k.Kind {
			case "channel":
				c := Channel{Recorder: d.Tag, Number: k.Number, Camera: k.Peer, State: k.State}
				if camera := byTag[k.Peer]; camera != nil {
					c.Name, c.Address = camera.Name, addressOf(camera)
				}
				r.Channels = append(r.Channels, c)
				joined[k.Peer] = append(joined[k.Peer], fmt.Sprintf("%s channel %d: %s", d.Tag, k.Number, k.State))
			case "pair":
				joined[d.Tag] = append(joined[d.Tag], fmt.Sprintf("pair with %s: %s", k.Peer, k.State))
			default:
				joined[d.Tag] = append(joined[d.Tag], fmt.Sprintf("reports to %s: %s", k.Peer, k.State))
			}
		}
	}
	return joined
}

func addressOf(d *device.Device) string {
	if d.AsLeft == nil {
		return ""
	}
	return d.AsLeft.Address.String()
}

// label is what an open item calls the device.
func (e *Entry) label() string { return cmp.Or(e.Tag, e.Serial, e.MAC.String()) }

// inClear is how the tables say that a password was set in the open.
const inClear = "set without encryption"

// passwordText says how the password was set, never what it is.
func passwordText(e Entry) string {
	if e.InClear {
		return inClear
	}
	return ""
}
