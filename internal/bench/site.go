// Package bench is the simulated site: an Ethernet switch in the process and a
// host for each device, every one with its own MAC, its own TCP/IP stack and
// its own state. Devices answer as the standards have it, each in the manner of
// its invented maker. It shares no codec with the client side beyond Ethernet
// and ARP, so that a mistake there does not hide itself here.
package bench

import (
	"bytes"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"janustat/core/device"
	"janustat/internal/pace"
)

//go:embed sites
var builtin embed.FS

// Site describes a simulated site. Its YAML form is specified in docs/bench.md.
type Site struct {
	Name    string           `yaml:"site"`
	Seed    uint64           `yaml:"seed"`
	Pace    pace.Pace        `yaml:"pace"`  // how many times sooner discovery is answered than APP_MAX_DELAY allows
	Loss    float64          `yaml:"loss"`  // share of frame deliveries lost, 0 to 1
	Delay   time.Duration    `yaml:"delay"` // of every delivery
	Storm   Storm            `yaml:"storm"` // what the switch lets pass of frames for everyone
	Faults  Faults           `yaml:"faults"`
	Laptop  Laptop           `yaml:"laptop"`
	Models  map[string]Model `yaml:"models"`
	Devices []Unit           `yaml:"devices"`
	Others  []Bystander      `yaml:"others"`
}

// Faults are what goes wrong with devices at random, each as a share of the
// requests they answer, 0 to 1.
type Faults struct {
	LoseAnswer float64 `yaml:"lose_answer"` // of writes: carried out, and the answer lost
	LoseRead   float64 `yaml:"lose_read"`   // of readings: the answer lost
	Restart    float64 `yaml:"restart"`     // of either: it restarts by itself after that
}

// Laptop is what a client's port looks like.
type Laptop struct {
	MAC       string   `yaml:"mac"`
	Addresses []string `yaml:"addresses"`
}

// Model is a type of device by an invented maker.
type Model struct {
	Make       string        `yaml:"make"`
	Name       string        `yaml:"name"`
	Kind       string        `yaml:"kind"` // camera, recorder, door-station, indoor-station, panel, audio
	Firmware   string        `yaml:"firmware"`
	Factory    string        `yaml:"factory"`      // address/prefix as delivered
	Auth       string        `yaml:"auth"`         // token, md5, sha256, both (digests), any
	Dialect    string        `yaml:"dialect"`      // declared, default, wild
	Path       string        `yaml:"path"`         // of the device service
	Restart    time.Duration `yaml:"restart"`      // how long it takes
	NeedsBoot  bool          `yaml:"needs_boot"`   // uses a new address only after a restart
	Strict     bool          `yaml:"strict"`       // refuses nearly everything until it has a password
	TypedOnly  bool          `yaml:"typed_only"`   // answers only probes for its own type
	NoXAddrs   bool          `yaml:"no_xaddrs"`    // probe matches carry no address: it has to be resolved
	Screen     string        `yaml:"screen"`       // of its pictures: plain (date and time), named (and a text), none if left out
	Channels   int           `yaml:"channels"`     // of a recorder; without them it has no services to set them
	Makes      bool          `yaml:"makes"`        // it makes its channels as they are asked for, and has none before
	Hail       string        `yaml:"hail"`         // too: beside the standard service; only: instead of it; not at all if left out
	HailV      int           `yaml:"hail_version"` // that it speaks; the newest if left out
	Lamp       bool          `yaml:"lamp"`         // it has an infrared lamp to be switched
	NoServices bool          `yaml:"no_services"`  // lacks GetServices
	FaultCode  int           `yaml:"fault_status"` // HTTP status of faults, 400 or 500
	Rules      *Rules        `yaml:"rules"`
	HTTPS      string        `yaml:"https"`       // on: beside HTTP; only: without HTTP; off: it has it, switched off; none if left out
	Plain      uint16        `yaml:"http_port"`   // of HTTP, 80 if left out
	LockAnswer string        `yaml:"lock"`        // when locked: silent (as for a wrong password, the default), status (423), or fault
	NoServers  bool          `yaml:"no_servers"`  // has no settings for DNS and NTP
	Quotes     bool          `yaml:"quotes"`      // quotes passwords in its faults, and in its name
	RenewsCert bool          `yaml:"renews_cert"` // makes another certificate when its address changes
}

// Rules are a model's password rules.
type Rules struct {
	Min     int  `yaml:"min"`
	Max     int  `yaml:"max"`
	Upper   int  `yaml:"upper"`
	Digits  int  `yaml:"digits"`
	Special int  `yaml:"special"`
	NoUser  bool `yaml:"no_user"`
	Silent  bool `yaml:"silent"` // enforced, not published
	// What the standard has no words for is enforced without being published.
	Classes   int  `yaml:"classes"` // of capitals, small letters, digits and special signs, at least
	NoRepeat  bool `yaml:"no_repeat"`
	NoSpecial bool `yaml:"no_special"`
	NoRun     bool `yaml:"no_run"` // of three neighbours, as abc or 321
	Tells     bool `yaml:"tells"`  // what is wrong, in its faults
}

// Unit is one device, or several alike.
type Unit struct {
	ID       string        `yaml:"id"`
	Model    string        `yaml:"model"`
	MAC      string        `yaml:"mac"`
	Serial   string        `yaml:"serial"`
	Address  string        `yaml:"address"` // instead of the model's factory address; none: no IPv4
	Gateway  string        `yaml:"gateway"`
	DHCP     bool          `yaml:"dhcp"`
	Fallback string        `yaml:"fallback"`  // without a lease: factory (the default), adrift, or none
	AskEvery time.Duration `yaml:"ask_every"` // how often it asks while it has no lease
	IPv6     bool          `yaml:"ipv6"`      // has a link-local IPv6 address too
	Window   time.Duration `yaml:"window"`    // takes settings only so long after power-on
	ByHand   bool          `yaml:"by_hand"`   // has a web page and nothing that can be configured from outside
	DHCPOnly bool          `yaml:"dhcp_only"` // refuses a static address
	Name     string        `yaml:"name"`
	Password string        `yaml:"password"` // of its administrator, set by someone else before
	Guest    string        `yaml:"guest"`    // a further user, set by someone else before
	Locked   bool          `yaml:"locked"`   // by the wrong passwords of someone else
	Lock     time.Duration `yaml:"lock"`     // how long wrong passwords lock it, instead of half an hour
	Clock    time.Duration `yaml:"clock"`    // its clock minus the true time
	Zone     string        `yaml:"zone"`     // its time zone, instead of the usual one
	Restart  time.Duration `yaml:"restart"`  // instead of the model's
	Slow     time.Duration `yaml:"slow"`     // before each answer
	LoseMove bool          `yaml:"lose_move"`
	LoseBoot bool          `yaml:"lose_reset"` // answers a reset by being gone
	Dribble  time.Duration `yaml:"dribble"`    // between the bytes of an answer
	TLSDelay time.Duration `yaml:"tls_delay"`  // before it answers a handshake
	Manners  []string      `yaml:"manners"`    // ways of its own (manners.go)
	Records  []Laid        `yaml:"records"`    // channels of a recorder that somebody has set up
	Count    int           `yaml:"count"`      // so many, with MAC and serial counted up
	prefix   netip.Prefix  // parsed Address
	mac      device.MAC    // parsed MAC
	gateway  netip.Addr    // parsed Gateway
	model    Model         // looked up
}

// Laid is a channel of a recorder as somebody has set it up, from 1 on.
type Laid struct {
	Channel   int    `yaml:"channel"`
	Source    string `yaml:"source"` // what it calls its camera by
	Name      string `yaml:"name"`
	Location  string `yaml:"location"`
	Retention string `yaml:"retention"` // as XML Schema has durations: P30D
	Content   string `yaml:"content"`
	URI       string `yaml:"uri"`
	Job       string `yaml:"job"` // Active, the default where there is a URI; Idle; none
	Priority  int    `yaml:"priority"`
	// Own makes its receiver one of the recorder's own, which is at work and which its job does
	// not name.
	Own bool `yaml:"own"`
	// Of its receiver: the user that it opens the camera by, whether it connects (AutoConnect,
	// the default, or NeverConnect), and how the pictures come (RTP-Unicast or RTP-Multicast;
	// RTSP or UDP).
	User     string `yaml:"user"`
	Password string `yaml:"password"`
	Mode     string `yaml:"mode"`
	Stream   string `yaml:"stream"`
	Protocol string `yaml:"protocol"`
}

// Bystander is something on the LAN that is not to be touched.
type Bystander struct {
	ID      string   `yaml:"id"`
	Role    string   `yaml:"role"` // router, dhcp, printer, computer, tagged, server, quiet
	MAC     string   `yaml:"mac"`
	Address string   `yaml:"address"`
	Gateway string   `yaml:"gateway"`
	Pool    []string `yaml:"pool"`  // first and last address, of a DHCP server
	DNS     []string `yaml:"dns"`   // that a DHCP server names; its gateway if left out
	NTP     []string `yaml:"ntp"`   // likewise; none if left out
	Ports   []uint16 `yaml:"ports"` // further TCP ports that accept connections
	IPv6    bool     `yaml:"ipv6"`
	Host    string   `yaml:"host"`   // the name it has in mDNS, without .local; none if left out
	Offers  []string `yaml:"offers"` // services it announces by mDNS, such as _ipp._tcp
	VLAN    uint16   `yaml:"vlan"`   // whose tag the frames of a tagged bystander carry
	Count   int      `yaml:"count"`  // so many, with MAC and address counted up
	prefix  netip.Prefix
	mac     device.MAC
}

// What a device does that asks for a lease and gets none.
const (
	fallbackFactory = "factory"
	fallbackAdrift  = "adrift" // takes a link-local address (RFC 3927)
	fallbackNone    = "none"   // has no address, and goes on asking
)

// Demo is the name of the built-in site that the demo plays on.
const Demo = "quillmere"

// Load reads a site: a file, or the name of a built-in one.
func Load(name string) (*Site, error) {
	data, err := os.ReadFile(name)
	// A job folder may well be called as its site is.
	if info, serr := os.Stat(name); !strings.ContainsAny(name, "./\\") && (errors.Is(serr, fs.ErrNotExist) || serr == nil && info.IsDir()) {
		data, err = builtin.ReadFile("sites/" + name + ".yaml")
	}
	if err != nil {
		return nil, fmt.Errorf("bench site: %w", err)
	}
	site, err := Parse(data)
	if err != nil {
		return nil, fmt.Errorf("bench site %s: %w", name, err)
	}
	return site, nil
}

// Parse reads a site's YAML and checks it.
func Parse(data []byte) (*Site, error) {
	var s Site
	if err := yaml.NewDecoder(bytes.NewReader(data), yaml.Strict()).Decode(&s); err != nil {
		return nil, err
	}
	models, err := builtinModels()
	if err != nil {
		return nil, err
	}
	for name, m := range s.Models {
		models[name] = m
	}
	s.Models = models
	if err := s.expand(); err != nil {
		return nil, err
	}
	return &s, s.expandOthers()
}

func (s *Site) expandOthers() error {
	var out []Bystander
	for _, o := range s.Others {
		first, err := device.ParseMAC(o.MAC)
		if err != nil {
			return fmt.Errorf("%s: %w", o.ID, err)
		}
		if o.prefix, err = netip.ParsePrefix(o.Address); err != nil {
			return fmt.Errorf("%s: %w", o.ID, err)
		}
		address := o.prefix.Addr()
		for n := range max(o.Count, 1) {
			one := o
			one.mac, one.prefix = addToMAC(first, n), netip.PrefixFrom(address, o.prefix.Bits())
			if o.Count > 1 {
				one.ID = fmt.Sprintf("%s-%d", o.ID, n+1)
			}
			out = append(out, one)
			address = address.Next()
		}
	}
	s.Others = out
	return nil
}

func builtinModels() (map[string]Model, error) {
	data, err := builtin.ReadFile("sites/models.yaml")
	if err != nil {
		return nil, err
	}
	var models map[string]Model
	if err := yaml.NewDecoder(bytes.NewReader(data), yaml.Strict()).Decode(&models); err != nil {
		return nil, fmt.Errorf("built-in models: %w", err)
	}
	return models, nil
}

// expand turns counted units into single ones and resolves their models.
func (s *Site) expand() error {
	var out []Unit
	for _, u := range s.Devices {
		model, ok := s.Models[u.Model]
		if !ok {
			return fmt.Errorf("%s: no model %q", u.ID, u.Model)
		}
		if h := model.Hail; h != "" && h != hailToo && h != hailOnly {
			return fmt.Errorf("%s: hail %q: use too or only", u.Model, h)
		}
		u.model = model
		if u.Restart == 0 {
			u.Restart = model.Restart
		}
		if u.Address == "" {
			u.Address = model.Factory
		}
		if err := checkManners(u.Manners); err != nil {
			return fmt.Errorf("%s: %w", u.ID, err)
		}
		var err error
		switch u.Fallback {
		case "", fallbackFactory, fallbackAdrift, fallbackNone:
		default:
			return fmt.Errorf("%s: fallback %q: use factory, adrift or none", u.ID, u.Fallback)
		}
		if u.Address != "none" {
			if u.prefix, err = netip.ParsePrefix(u.Address); err != nil {
				return fmt.Errorf("%s: address: %w", u.ID, err)
			}
		}
		if u.Gateway != "" {
			if u.gateway, err = netip.ParseAddr(u.Gateway); err != nil {
				return fmt.Errorf("%s: gateway: %w", u.ID, err)
			}
		}
		first, err := device.ParseMAC(u.MAC)
		if err != nil {
			return fmt.Errorf("%s: %w", u.ID, err)
		}
		for n := range max(u.Count, 1) {
			one := u
			one.mac = addToMAC(first, n)
			if u.Count > 1 {
				one.ID = fmt.Sprintf("%s-%d", u.ID, n+1)
				one.Serial = fmt.Sprintf("%s%03d", u.Serial, n+1)
			}
			out = append(out, one)
		}
	}
	s.Devices = out
	return nil
}

// addToMAC counts a MAC up in its last three bytes.
func addToMAC(m device.MAC, n int) device.MAC {
	v := int(m[3])<<16 | int(m[4])<<8 | int(m[5])
	v += n
	m[3], m[4], m[5] = byte(v>>16), byte(v>>8), byte(v)
	return m
}
